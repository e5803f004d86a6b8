import type { ReactNode } from "react";
import { Link } from "../parts/Link";

interface Props {
  /** Where to look further, for those who may. */
  to: string | undefined;
  name: string;
  children: ReactNode;
}

/** One line of what happened. */
export function HappenedRow({ to, name, children }: Props) {
  return (
    <li className="flex min-h-7 flex-wrap items-center gap-x-4" data-happened-row={name}>
      <span className="min-w-0 sm:w-80">
        {to ? (
          <Link
            to={to}
            className="target underline decoration-rule underline-offset-4 hover:decoration-water"
          >
            {name}
          </Link>
        ) : (
          name
        )}
      </span>
      {children}
    </li>
  );
}
