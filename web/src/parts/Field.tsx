import type { ReactNode } from "react";

interface Props {
  label: string;
  children: ReactNode;
  hint?: string;
}

/** A named place to enter something. */
export function Field({ label, children, hint }: Props) {
  return (
    <label className="flex flex-col gap-1">
      <span className="text-sm text-soft">{label}</span>
      {children}
      {hint && <span className="text-sm text-soft">{hint}</span>}
    </label>
  );
}

export const entry = "h-9 rounded-sheet border border-rule bg-sheet px-2 py-1";
export const button =
  "h-9 rounded-sheet border border-ink bg-sheet px-3 py-1 hover:bg-paper disabled:opacity-40 print:hidden";
/** The same for what leads somewhere. */
export const linkButton =
  "inline-flex h-9 items-center rounded-sheet border border-ink bg-sheet px-3 py-1 hover:bg-paper print:hidden";
/** What a list is searched with; paper says it where something is searched for. */
export const search =
  "w-72 rounded-sheet border border-rule bg-sheet px-2 py-1 print:placeholder-shown:hidden";
export const mainButton =
  "h-9 rounded-sheet border border-ink bg-ink px-3 py-1 text-paper disabled:opacity-40 print:hidden";
