import { Checkbox, Popover } from "radix-ui";
import { useMemo, useState } from "react";
import type { BoardLane, Series } from "../api/client";
import { useSeries } from "../api/hooks";
import { button, mainButton } from "../parts/Field";
import { Failed } from "../parts/Said";
import { kindFor } from "../lanes/kinds";

interface Props {
  name: string;
  onAdd: (lanes: BoardLane[]) => void;
  onHead?: (paths: string[]) => void;
  /** Also lanes that are of no series. */
  others?: boolean;
}

const mostShown = 200;

/** A list of all series to tick, with a field to narrow it down, and how they become lanes. */
export function AddLane({ name, onAdd, onHead, others = false }: Props) {
  const series = useSeries();
  const [open, setOpen] = useState(false);
  const [filter, setFilter] = useState("");
  const [picked, setPicked] = useState<string[]>([]);
  const all = useMemo(
    () => (series.data?.series ?? []).filter((s) => !s.path.endsWith("/quality")),
    [series.data],
  );
  const found = useMemo(() => {
    const wanted = filter.trim().toLowerCase().split(/\s+/);
    return all.filter((s) => wanted.every((w) => s.path.toLowerCase().includes(w)));
  }, [all, filter]);
  const chosen = picked.map((p) => all.find((s) => s.path === p)).filter((s) => s !== undefined);
  const done = (lanes: BoardLane[]) => {
    onAdd(lanes);
    setPicked([]);
    setFilter("");
    setOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className={button}>{name}</Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={6}
          aria-label={name}
          className="z-20 w-[min(30rem,calc(100vw-2rem))] rounded-sheet border border-ink bg-sheet p-3 shadow-lg"
        >
          <input
            type="search"
            aria-label="Narrow the list down"
            placeholder="Narrow down, such as raceway oxygen"
            value={filter}
            onChange={(e) => setFilter(e.target.value)}
            className="w-full rounded-sheet border border-rule bg-paper px-2 py-1"
          />
          <ul className="mt-2 max-h-64 overflow-y-auto" aria-label="Series">
            {found.slice(0, mostShown).map((s) => (
              <li key={s.path}>
                <label className="flex items-center gap-2 rounded-sheet px-1 py-1 hover:bg-paper">
                  <Checkbox.Root
                    checked={picked.includes(s.path)}
                    onCheckedChange={(on) =>
                      setPicked(on === true ? [...picked, s.path] : picked.filter((p) => p !== s.path))
                    }
                    className="size-5 shrink-0 rounded-sheet border border-soft data-[state=checked]:bg-water"
                  >
                    <Checkbox.Indicator className="block text-sm text-paper">✓</Checkbox.Indicator>
                  </Checkbox.Root>
                  <span className="min-w-0 break-words">{s.path}</span>
                  <span className="ml-auto text-soft">{s.unit}</span>
                </label>
              </li>
            ))}
          </ul>
          <Failed error={series.error} />
          {found.length === 0 && series.data && <p className="mt-2 text-soft">No series contains that.</p>}
          {found.length > mostShown && (
            <p className="mt-2 text-sm text-soft">{found.length - mostShown} more; narrow the list down.</p>
          )}
          <div className="mt-3 flex flex-wrap gap-2">
            <button
              type="button"
              className={mainButton}
              disabled={chosen.length === 0}
              onClick={() => done(together(chosen))}
            >
              {chosen.length > 1 ? "In one lane" : "As a lane"}
            </button>
            {chosen.length > 1 && (
              <button
                type="button"
                className={button}
                onClick={() => done(chosen.map((s) => ({ kind: kindFor(s), series: [s.path] })))}
              >
                A lane each
              </button>
            )}
            <button
              type="button"
              className={button}
              disabled={chosen.length === 0}
              onClick={() => done([{ kind: "coverage", series: chosen.map((s) => s.path) }])}
            >
              Their coverage
            </button>
            {chosen.length === 1 && chosen[0] && (
              <button
                type="button"
                className={button}
                onClick={() => done([everywhere(chosen[0] as Series)])}
              >
                The same at every station
              </button>
            )}
            {onHead && (
              <button
                type="button"
                className={button}
                disabled={chosen.length === 0}
                onClick={() => {
                  onHead(chosen.map((s) => s.path));
                  done([]);
                }}
              >
                In the head
              </button>
            )}
            {others && (
              <button
                type="button"
                className={button}
                onClick={() => done([{ kind: "text", text: "Write here." }])}
              >
                A lane of text
              </button>
            )}
          </div>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** Series in as few lanes as their kinds allow. */
export function together(all: Series[]): BoardLane[] {
  const lanes = new Map<BoardLane["kind"], string[]>();
  for (const s of all) lanes.set(kindFor(s), [...(lanes.get(kindFor(s)) ?? []), s.path]);
  return [...lanes].map(([kind, series]) => ({ kind, series }));
}

/** The same quantity at every station of its site. */
export function everywhere(s: Series): BoardLane {
  const levels = s.path.split("/");
  if (levels.length >= 3) levels.splice(1, levels.length - 2, "+");
  return { kind: kindFor(s), series: [levels.join("/")] };
}
