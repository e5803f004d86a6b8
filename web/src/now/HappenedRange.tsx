import { useState, type FormEvent } from "react";
import { entry, mainButton } from "../parts/Field";
import { localText, readLocal } from "../time/local";
import { clamped, type Range, type Span } from "../time/range";

const choices: { name: string; range?: Range }[] = [
  { name: "since 18:00 yesterday" },
  { name: "past 12 hours", range: { kind: "last", last: "12h" } },
  { name: "past 24 hours", range: { kind: "last", last: "24h" } },
  { name: "today", range: { kind: "calendar", calendar: "today" } },
  { name: "yesterday", range: { kind: "calendar", calendar: "yesterday" } },
  { name: "past 7 days", range: { kind: "last", last: "7d" } },
  { name: "last week", range: { kind: "calendar", calendar: "last week" } },
];

interface Props {
  range: Range | undefined;
  span: Span;
  zone: string;
  onChange: (range: Range | undefined) => void;
}

/** Chooses the range: a preset, or from and to. */
export function HappenedRange({ range, span, zone, onChange }: Props) {
  const found = choices.findIndex((c) => JSON.stringify(c.range) === JSON.stringify(range));
  const [own, setOwn] = useState(found < 0);
  const [from, setFrom] = useState(() => localText(span.from, zone).slice(0, 16));
  const [to, setTo] = useState(() => localText(span.end, zone).slice(0, 16));
  const [a, b] = [readLocal(from, zone), readLocal(to, zone)];
  const wrong = !(b > a); // also when one is missing
  const submit = (e: FormEvent) => {
    e.preventDefault();
    if (!wrong) onChange(clamped(a, b));
  };
  return (
    <form onSubmit={submit} className="flex flex-wrap items-center gap-2 print:hidden">
      <select
        aria-label="Range"
        className={entry}
        value={own ? "own" : String(found)}
        onChange={(e) => {
          setOwn(e.target.value === "own");
          const choice = choices[Number(e.target.value)];
          if (choice) onChange(choice.range);
        }}
      >
        {choices.map((c, i) => (
          <option key={c.name} value={i}>
            {c.name}
          </option>
        ))}
        <option value="own">from … to …</option>
      </select>
      {own && (
        <>
          <input
            type="datetime-local"
            aria-label="From"
            value={from}
            onChange={(e) => setFrom(e.target.value)}
            className={entry}
          />
          <input
            type="datetime-local"
            aria-label="To"
            value={to}
            onChange={(e) => setTo(e.target.value)}
            className={entry}
          />
          <button type="submit" className={mainButton} disabled={wrong}>
            Show
          </button>
          {wrong && <span className="text-sm text-bad">The end must be after the start.</span>}
        </>
      )}
    </form>
  );
}
