import { DropdownMenu as Menu } from "radix-ui";
import type { BoardLane } from "../api/client";
import { lineStatValues } from "../api/schema.gen";
import { Check, item, Rule } from "../parts/menu";

interface Props {
  lane: BoardLane;
  set: (change: Partial<BoardLane>) => void;
  onCalculate: () => void;
}

const draws = [
  { draw: undefined, name: "Lines" },
  { draw: "steps", name: "Steps" },
  { draw: "points", name: "Points" },
] as const;

/** All that can be drawn without an argument, and some percentiles, which are estimated where only summaries are kept. */
const stats = [...lineStatValues, "p5~", "p50~", "p95~"];

/** How a lane of lines is drawn, in its menu. */
export function DrawingItems({ lane, set, onCalculate }: Props) {
  const stat = lane.stat || "mean";
  const draw = lane.draw === "line" ? undefined : lane.draw || undefined;
  return (
    <>
      <Rule />
      {draws.map((d) => (
        <Check key={d.name} on={draw === d.draw} onChange={() => set({ draw: d.draw })}>
          {d.name}
        </Check>
      ))}
      <Rule />
      <Check on={!lane.no_band} onChange={(on) => set({ no_band: on ? undefined : true })}>
        Band from lowest to highest
      </Check>
      <Check on={lane.join === true} onChange={(on) => set({ join: on || undefined })}>
        Join lines over gaps
      </Check>
      {(lane.series?.length ?? 0) >= 2 && (
        <Check on={lane.difference === true} onChange={(on) => set({ difference: on || undefined })}>
          Difference of the first two
        </Check>
      )}
      <Menu.Sub>
        <Menu.SubTrigger className={item}>Of each window: {stat} ›</Menu.SubTrigger>
        <Menu.Portal>
          <Menu.SubContent className="z-20 max-h-[60vh] overflow-y-auto rounded-sheet border border-ink bg-sheet p-1 shadow-lg">
            {stats.map((s) => (
              <Check key={s} on={stat === s} onChange={() => set({ stat: s === "mean" ? undefined : s })}>
                {s}
              </Check>
            ))}
          </Menu.SubContent>
        </Menu.Portal>
      </Menu.Sub>
      <Menu.Item className={item} onSelect={onCalculate}>
        Calculate …
      </Menu.Item>
    </>
  );
}
