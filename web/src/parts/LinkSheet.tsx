import type { ReactNode } from "react";
import { Mark } from "./Mark";

interface Props {
  title: string;
  note: string;
  up: boolean;
  facts: [string, string][];
  errors: string[];
  /** What is worth knowing, and not wrong. */
  notes?: string[];
  children?: ReactNode;
}

/** One uplink. */
export function LinkSheet({ title, note, up, facts, errors, notes = [], children }: Props) {
  return (
    <section aria-label={title} className="mt-4 rounded-sheet border border-rule bg-sheet px-3 py-2">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h2 className="text-lg font-semibold">{title}</h2>
        <Mark look={up ? "good" : "bad"}>{up ? "up" : "down"}</Mark>
        <span className="text-soft">{note}</span>
      </div>
      <dl className="mt-2 grid grid-cols-2 gap-x-6 gap-y-2 sm:grid-cols-3 desk:grid-cols-6">
        {facts.map(([name, value]) => (
          <div key={name}>
            <dt className="text-sm text-soft">{name}</dt>
            <dd>{value}</dd>
          </div>
        ))}
      </dl>
      {children}
      {errors.map((text) => (
        <p key={text} className="mt-2 text-bad">
          {text}
        </p>
      ))}
      {notes.map((text) => (
        <p key={text} className="mt-2 text-soft">
          {text}
        </p>
      ))}
    </section>
  );
}
