import { Checkbox, Popover } from "radix-ui";
import { useState } from "react";
import { useSeries } from "../api/hooks";

interface Props {
  picked: string[];
  onPick: (series: string[]) => void;
}

const most = 6;

/** A list of all series to tick, with a field to narrow it down. */
export function SeriesPicker({ picked, onPick }: Props) {
  const series = useSeries();
  const [filter, setFilter] = useState("");
  const wanted = filter.trim().toLowerCase().split(/\s+/);
  const found = (series.data?.series ?? []).filter((s) =>
    wanted.every((w) => s.path.toLowerCase().includes(w)),
  );
  const toggle = (path: string, on: boolean) =>
    onPick(on ? [...picked, path] : picked.filter((p) => p !== path));
  return (
    <Popover.Root>
      <Popover.Trigger className="rounded-sheet border border-ink bg-sheet px-3 py-1">
        Pick series{picked.length > 0 && ` (${picked.length})`}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={6}
          className="z-10 w-[min(26rem,calc(100vw-2rem))] rounded-sheet border border-ink bg-sheet p-3 shadow-lg"
        >
          <input
            type="search"
            aria-label="Narrow the list down"
            placeholder="Narrow down, such as raceway oxygen"
            value={filter}
            onChange={(e) => setFilter(e.target.value)}
            className="w-full rounded-sheet border border-rule bg-paper px-2 py-1"
          />
          <ul className="mt-2 max-h-80 overflow-y-auto">
            {found.map((s) => {
              const on = picked.includes(s.path);
              return (
                <li key={s.path}>
                  <label className="flex items-center gap-2 rounded-sheet px-1 py-1 hover:bg-paper">
                    <Checkbox.Root
                      checked={on}
                      disabled={!on && picked.length >= most}
                      onCheckedChange={(next) => toggle(s.path, next === true)}
                      className="size-5 shrink-0 rounded-sheet border border-soft disabled:opacity-40 data-[state=checked]:bg-water"
                    >
                      <Checkbox.Indicator className="block text-sm text-paper">✓</Checkbox.Indicator>
                    </Checkbox.Root>
                    <span className="min-w-0 break-words">{s.path}</span>
                    <span className="ml-auto text-soft">{s.unit}</span>
                  </label>
                </li>
              );
            })}
          </ul>
          {series.error && <p className="mt-2 text-bad">{series.error.message}</p>}
          {found.length === 0 && !series.error && <p className="mt-2 text-soft">No series contains that.</p>}
          {picked.length >= most && (
            <p className="mt-2 text-soft">{most} series at most are drawn at once.</p>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
