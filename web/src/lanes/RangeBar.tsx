import { localText, readLocal } from "../time/local";
import { ChevronLeft, ChevronRight, ZoomOut } from "lucide-react";
import { Popover } from "radix-ui";
import { useState, type FormEvent } from "react";
import { button, entry, Field, mainButton } from "../parts/Field";
import { longTime, shortTime } from "../time/format";
import { spoken } from "../time/duration";
import { calendars, clamped, isLive, lasts, moved, scaled, type Range, type Span } from "../time/range";
import { dayStart, isZone, viewerZone, zoneText } from "../time/zone";

/** What a page's time is like. */
export interface TimeChoice {
  range: Range;
  zone: string; // site, viewer, or an IANA name
  width: string; // empty: one that fits
  hours: string;
  compare: string;
}

interface Props {
  choice: TimeChoice;
  span: Span;
  /** The zone that the choice means, and that of the site. */
  zone: string;
  siteZone: string;
  /** The page is of several sites with clocks of their own, and so goes by those of the service. */
  sitesDiffer?: boolean;
  width: string;
  onChange: (choice: Partial<TimeChoice>) => void;
  onBack?: () => void;
}

const widths = ["", "10s", "1m", "5m", "15m", "1h", "6h", "1d", "1w"];
const earlier = [
  { shift: "", name: "nothing" },
  { shift: "1d", name: "a day earlier" },
  { shift: "1w", name: "a week earlier" },
  { shift: "1y", name: "a year earlier" },
];
const lastNames: Record<string, string> = { "1mo": "month", "1y": "year", "1w": "week", "1d": "day" };
// "Last week" is one of the calendar; what ends now is the past week.
const lastName = (l: string) => `past ${lastNames[l] ?? spoken(l)}`;

/** Which time the page shows, whose clocks, in which windows, and beside what. */
export function RangeBar(props: Props) {
  const { choice, span, zone, onChange, onBack } = props;
  const step = (by: number) => onChange({ range: moved(span, by, zone) });
  return (
    <div
      className="flex flex-wrap items-center gap-x-3 gap-y-1 py-2 print:hidden"
      role="group"
      aria-label="Time"
    >
      <RangePicker choice={choice} span={span} zone={zone} onChange={onChange} />
      <span className="flex">
        <IconButton label="Earlier" onClick={() => step(-1)}>
          <ChevronLeft size={18} aria-hidden />
        </IconButton>
        <IconButton label="Later" onClick={() => step(1)}>
          <ChevronRight size={18} aria-hidden />
        </IconButton>
        <IconButton label="Zoom out" onClick={() => onChange({ range: scaled(span, 2) })}>
          <ZoomOut size={18} aria-hidden />
        </IconButton>
      </span>
      {onBack && (
        <button type="button" className={button} onClick={onBack}>
          Zoom back
        </button>
      )}
      <div className="hidden flex-wrap items-center gap-x-3 sm:flex">
        <Choices {...props} />
      </div>
      <details className="sm:hidden">
        <summary className="cursor-pointer text-soft">Windows, compare, clocks</summary>
        <Choices {...props} />
      </details>
      {isLive(choice.range) && (
        <span className="text-sm text-soft" data-follows>
          follows live
        </span>
      )}
    </div>
  );
}

/** How wide windows are, what stands beside them, and whose clocks count. */
function Choices({ choice, span, siteZone, sitesDiffer = false, width, onChange }: Props) {
  return (
    <>
      <Choice label="Windows" value={choice.width} onChange={(w) => onChange({ width: w })}>
        {widths.map((w) => (
          <option key={w} value={w}>
            {w ? `${spoken(w)} windows` : `windows that fit: ${spoken(width)}`}
          </option>
        ))}
      </Choice>
      <Choice label="Compare with" value={choice.compare} onChange={(c) => onChange({ compare: c })}>
        {earlier.map((e) => (
          <option key={e.shift} value={e.shift}>
            {e.shift ? `beside ${e.name}` : "compare with …"}
          </option>
        ))}
      </Choice>
      <Choice label="Clocks of" value={choice.zone} onChange={(z) => onChange({ zone: z })}>
        <option value="site">
          {sitesDiffer ? "the service" : "the site"}: {zoneText(siteZone, span.to)}
        </option>
        <option value="viewer">this machine: {zoneText(viewerZone(), span.to)}</option>
        <option value="UTC">UTC</option>
        {!["site", "viewer", "UTC"].includes(choice.zone) && isZone(choice.zone) && (
          <option value={choice.zone}>{zoneText(choice.zone, span.to)}</option>
        )}
      </Choice>
    </>
  );
}

function IconButton({
  label,
  onClick,
  children,
}: {
  label: string;
  onClick: () => void;
  children: React.ReactNode;
}) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      onClick={onClick}
      className="h-9 rounded-sheet px-1.5 hover:bg-sheet"
    >
      {children}
    </button>
  );
}

interface ChoiceProps {
  label: string;
  value: string;
  onChange: (value: string) => void;
  children: React.ReactNode;
}

function Choice({ label, value, onChange, children }: ChoiceProps) {
  return (
    <select
      aria-label={label}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      className="h-9 max-w-[min(100%,26rem)] rounded-sheet border border-transparent bg-transparent px-1 hover:border-rule hover:bg-sheet"
    >
      {children}
    </select>
  );
}

/** How a range is called. */
export function rangeName(range: Range, span: Span, zone: string): string {
  if (range.kind === "last") return lastName(range.last);
  if (range.kind === "calendar") return range.calendar;
  const sameDay = dayStart(span.from, zone) === dayStart(span.end - 1, zone);
  return `${longTime(span.from, zone)} to ${sameDay ? shortTime(span.end, zone, { from: 0, to: 1 }) : longTime(span.end, zone)}`;
}

function RangePicker({ choice, span, zone, onChange }: Pick<Props, "choice" | "span" | "zone" | "onChange">) {
  const [open, setOpen] = useState(false);
  const take = (change: Partial<TimeChoice>) => {
    onChange(change);
    setOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className={`${button} font-semibold`} data-range>
        {rangeName(choice.range, span, zone)} ▾
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={6}
          aria-label="Which time"
          className="z-20 grid w-[min(34rem,94vw)] gap-3 rounded-sheet border border-ink bg-sheet p-3 shadow-lg sm:grid-cols-2"
        >
          <div className="grid grid-cols-2 content-start gap-1">
            {lasts.map((l) => (
              <Quick
                key={l}
                on={choice.range.kind === "last" && choice.range.last === l}
                onClick={() => take({ range: { kind: "last", last: l } })}
              >
                {lastName(l)}
              </Quick>
            ))}
            {calendars.map((c) => (
              <Quick
                key={c}
                on={choice.range.kind === "calendar" && choice.range.calendar === c}
                onClick={() => take({ range: { kind: "calendar", calendar: c } })}
              >
                {c}
              </Quick>
            ))}
          </div>
          <SpanForm choice={choice} span={span} zone={zone} onTake={take} />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Quick({ on, onClick, children }: { on: boolean; onClick: () => void; children: string }) {
  return (
    <button
      type="button"
      aria-pressed={on}
      onClick={onClick}
      className={`rounded-sheet px-2 py-1 text-left hover:bg-paper ${on ? "bg-ink text-paper hover:bg-ink" : ""}`}
    >
      {children}
    </button>
  );
}

interface SpanFormProps {
  choice: TimeChoice;
  span: Span;
  zone: string;
  onTake: (change: Partial<TimeChoice>) => void;
}

function SpanForm({ choice, span, zone, onTake }: SpanFormProps) {
  const [from, setFrom] = useState(() => localText(span.from, zone));
  const [to, setTo] = useState(() => localText(span.end, zone));
  const [hours, setHours] = useState(choice.hours);
  const [a, b] = [readLocal(from, zone), readLocal(to, zone)];
  const wrong =
    !Number.isFinite(a) || !Number.isFinite(b)
      ? "Write both times."
      : b <= a
        ? "The second time has to be later than the first."
        : !/^(\d\d:\d\d-\d\d:\d\d(,|$))*$/.test(hours)
          ? "Hours are written like 22:00-06:00."
          : "";
  const submit = (e: FormEvent) => {
    e.preventDefault();
    const same = from === localText(span.from, zone) && to === localText(span.end, zone);
    onTake({ hours, ...(same ? {} : { range: clamped(a, b) }) });
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-2">
      <Field label={`From, by the clocks of ${zoneText(zone, span.from)}`}>
        <input
          type="datetime-local"
          step={1}
          name="from"
          value={from}
          onChange={(e) => setFrom(e.target.value)}
          className={entry}
        />
      </Field>
      <Field label="To">
        <input
          type="datetime-local"
          step={1}
          name="to"
          value={to}
          onChange={(e) => setTo(e.target.value)}
          className={entry}
        />
      </Field>
      <Field label="Only these hours of each day" hint="Such as 22:00-06:00; empty: all">
        <input
          name="hours"
          value={hours}
          onChange={(e) => setHours(e.target.value.trim())}
          className={entry}
        />
      </Field>
      {wrong && <p className="text-sm text-bad">{wrong}</p>}
      <button type="submit" className={`${mainButton} self-end`} disabled={wrong !== ""}>
        Show
      </button>
    </form>
  );
}
