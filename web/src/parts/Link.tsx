import type { MouseEvent, ReactNode } from "react";
import { go } from "../router";

interface Props {
  to: string;
  current?: boolean;
  className?: string;
  children: ReactNode;
}

export function Link({ to, current, className, children }: Props) {
  const follow = (event: MouseEvent) => {
    if (event.metaKey || event.ctrlKey || event.shiftKey || event.button !== 0) return;
    event.preventDefault();
    go(to);
  };
  return (
    <a href={to} onClick={follow} aria-current={current ? "page" : undefined} className={className}>
      {children}
    </a>
  );
}
