import { useMemo } from "react";
import type { Series } from "../api/client";
import { useHealth } from "../api/hooks";
import { number, pathWords } from "../format";
import { live } from "../live/store";
import { useTick } from "../live/tick";
import { Link } from "../parts/Link";
import { convert, type UnitsOf } from "../units";
import { conditionOf, isQuality, order, qualityOf, type Condition } from "./condition";
import { ConditionMark, normalText } from "./SeriesRow";
import { OutsideMark } from "./OutsideMark";

const most = 12;

interface Found {
  path: string;
  condition: Condition;
  old: number;
}

let lately: { catalogue: Map<string, Series>; now: number; found: Found[] } | null = null;

/** Everything that asks for a look, the worst first; two parts of the page ask for it at the same time. */
export function findings(catalogue: Map<string, Series>, now: number): Found[] {
  if (lately?.catalogue !== catalogue || lately.now !== now)
    lately = { catalogue, now, found: lookOver(catalogue, now) };
  return lately.found;
}

function lookOver(catalogue: Map<string, Series>, now: number): Found[] {
  const out: Found[] = [];
  for (const v of live.values.values()) {
    if (isQuality(v.path, live.values)) continue;
    const doubted = live.values.get(qualityOf(v.path))?.state === "uncertain";
    const condition = conditionOf(v, catalogue.get(v.path), now, doubted);
    if (condition !== "well") out.push({ path: v.path, condition, old: now - Date.parse(v.time) });
  }
  return out.sort(
    (a, b) => order.indexOf(a.condition) - order.indexOf(b.condition) || (a.path < b.path ? -1 : 1),
  );
}

/** What needs a look first: outside of its normal range, stale, a silent source, a link that is down. */
export function LookFirst({ catalogue, units }: { catalogue: Map<string, Series>; units: UnitsOf }) {
  const clock = useTick();
  const health = useHealth().data;
  const found = useMemo(() => findings(catalogue, clock), [catalogue, clock]);
  const troubles = health?.troubles ?? [];
  if (found.length + troubles.length === 0) return null;
  return (
    <section aria-label="Needs a look" className="mt-4" data-look>
      <h2 className="border-b border-rule pb-1 text-lg">Needs a look</h2>
      <ul className="mt-2 grid gap-x-6 gap-y-1 md:grid-cols-2">
        {troubles.map((t) => (
          <li key={t} className="flex items-baseline gap-2 md:col-span-2">
            <Link to="/links" className="target rounded-sheet bg-stale-wash px-1.5 text-stale">
              {t}
            </Link>
          </li>
        ))}
        {found.slice(0, most).map((f) => {
          const v = live.values.get(f.path);
          const series = catalogue.get(f.path);
          const to = units(v?.unit ?? "");
          return (
            <li key={f.path} className="flex flex-wrap items-baseline gap-x-2" data-finding={f.path}>
              {f.condition === "unusual" || f.condition === "critical" ? (
                <OutsideMark path={f.path} condition={f.condition} now={clock} />
              ) : (
                <ConditionMark condition={f.condition} old={f.old} />
              )}
              <Link
                to={`/trends?series=${encodeURIComponent(f.path)}`}
                className="target min-w-0 truncate hover:underline"
              >
                {pathWords(f.path)}
              </Link>
              <span className="ml-auto">
                {v?.state || `${number(convert(v?.value, to))} ${to.written}`}
                <span className="text-sm text-soft">{normalText(series, units)}</span>
              </span>
            </li>
          );
        })}
      </ul>
      {found.length > most && <p className="mt-1 text-soft">and {found.length - most} more series below.</p>}
    </section>
  );
}
