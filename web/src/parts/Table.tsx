import type { ReactNode } from "react";

interface Props {
  /** Names of the columns; one that begins with > stands right. */
  head: string[];
  /** Name of the table, which can then be scrolled with the keys; where nothing in its rows can be reached by them. */
  label?: string;
  children: ReactNode;
}

/** Rows of things that are alike, in a sheet that scrolls sideways where it has to. */
export function Table({ head, label, children }: Props) {
  return (
    <div
      className="mt-3 overflow-x-auto rounded-sheet border border-rule bg-sheet"
      {...(label && { role: "group", tabIndex: 0, "aria-label": label })}
    >
      <table className="w-full">
        <thead>
          <tr className="text-left text-sm text-soft">
            {head.map((name) => (
              <th
                key={name}
                scope="col"
                className={`px-3 py-1 font-normal ${name.startsWith(">") ? "text-right" : ""}`}
              >
                {name.replace(">", "") || <span className="sr-only">What can be done</span>}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </div>
  );
}

export const row = "border-t border-rule align-top";
export const cell = "px-3 py-1";
