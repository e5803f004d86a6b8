import type { CSSProperties, ReactNode } from "react";
import { Link as To } from "react-router";

interface Props {
  to: string;
  current?: boolean;
  className?: string;
  style?: CSSProperties;
  /** What it is called, when its words do not say it. */
  label?: string;
  children: ReactNode;
}

export function Link({ to, current, className, style, label, children }: Props) {
  return (
    <To
      to={to}
      aria-current={current ? "page" : undefined}
      aria-label={label}
      className={className}
      style={style}
    >
      {children}
    </To>
  );
}
