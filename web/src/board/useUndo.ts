import { useCallback, useState } from "react";

interface Steps<T> {
  past: T[];
  present: T;
  future: T[];
  part?: string;
}

const most = 100;

/** A value whose changes can be taken back, and made again. Changes one after the other that have the same
 *  `part`, as letters typed into one field, are one. */
export function useUndo<T>(initial: T) {
  const [steps, setSteps] = useState<Steps<T>>({ past: [], present: initial, future: [] });
  const set = useCallback((next: T, part?: string) => {
    setSteps((s) =>
      part !== undefined && part === s.part
        ? { ...s, present: next, future: [] }
        : { past: [...s.past.slice(-most), s.present], present: next, future: [], part },
    );
  }, []);
  const undo = useCallback(() => {
    setSteps((s) => {
      const before = s.past[s.past.length - 1];
      if (before === undefined) return s;
      return { past: s.past.slice(0, -1), present: before, future: [s.present, ...s.future] };
    });
  }, []);
  const redo = useCallback(() => {
    setSteps((s) => {
      const [next, ...future] = s.future;
      if (next === undefined) return s;
      return { past: [...s.past, s.present], present: next, future };
    });
  }, []);
  const reset = useCallback((value: T) => setSteps({ past: [], present: value, future: [] }), []);
  return {
    value: steps.present,
    set,
    undo,
    redo,
    reset,
    canUndo: steps.past.length > 0,
    canRedo: steps.future.length > 0,
  };
}
