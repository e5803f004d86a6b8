import type { CSSProperties, ReactNode } from "react";

interface Props {
  to: string;
  current?: boolean;
  className?: string;
  style?: CSSProperties;
  /** What it is called, when its words do not say it. */
  label?: string;
  children: ReactNode;
}

/** A link to another page of the console. Pages have hundreds of them, so they are plain ones, and
 *  useInnerLinks follows them all. */
export function Link({ to, current, className, style, label, children }: Props) {
  return (
    <a
      href={to}
      data-inner
      aria-current={current ? "page" : undefined}
      aria-label={label}
      className={className}
      style={style}
    >
      {children}
    </a>
  );
}
