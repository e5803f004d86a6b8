/** Something that parts of the console tell each other. */
export interface Signal<T> {
  /** Calls listener with all that is told from now on, until the returned function is called. */
  listen: (listener: (value: T) => void) => () => void;
  tell: (value: T) => void;
}

export function signal<T = void>(): Signal<T> {
  const listeners = new Set<(value: T) => void>();
  return {
    listen: (listener) => {
      listeners.add(listener);
      return () => void listeners.delete(listener);
    },
    tell: (value) => listeners.forEach((listener) => listener(value)),
  };
}

/** Nobody is logged in any more, or may be. */
export const sessionEnded = signal();

/** Colours changed: the theme, or the page goes on paper. */
export const coloursChanged = signal();
