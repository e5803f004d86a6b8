import { ToggleGroup } from "radix-ui";
import { SeriesPicker } from "../parts/SeriesPicker";
import { TrendSheet } from "../parts/TrendSheet";
import { lasts, type Range } from "../range";
import { go, useAddress } from "../router";

/** Charts of picked series over one range; the address says which. */
export function TrendsPage() {
  const address = useAddress();
  const picked = address.searchParams.getAll("series");
  const range = rangeOf(address);
  const show = (series: string[], next: Range, replace = false) => go(addressOf(series, next), replace);
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <h1 className="text-2xl font-semibold">Trends</h1>
        <SeriesPicker picked={picked} onPick={(series) => show(series, range, true)} />
        <ToggleGroup.Root
          type="single"
          aria-label="Range"
          value={range.last ?? ""}
          onValueChange={(last) => last && show(picked, { last })}
          className="flex flex-wrap"
        >
          {lasts.map(({ last, label }) => (
            <ToggleGroup.Item
              key={last}
              value={last}
              className="border-b-2 border-transparent px-2 py-1 hover:bg-sheet data-[state=on]:border-water data-[state=on]:font-semibold"
            >
              {label}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
        {range.last === undefined && (
          <button
            type="button"
            onClick={() => history.back()}
            className="rounded-sheet border border-rule bg-sheet px-2 py-1"
          >
            Zoom back
          </button>
        )}
      </div>
      {picked.length === 0 && (
        <p className="mt-8 max-w-prose">
          Pick the series to look at. Each gets a chart of its means with the band from lowest to highest, so
          that a spike stays in sight however wide the windows are; a total by how much it grew, a state by
          how long it held.
        </p>
      )}
      {picked.map((path) => (
        <TrendSheet
          key={path}
          path={path}
          range={range}
          onZoom={(from, to) => show(picked, { from, to })}
          onRemove={() =>
            show(
              picked.filter((p) => p !== path),
              range,
              true,
            )
          }
        />
      ))}
    </>
  );
}

function rangeOf(address: URL): Range {
  const from = Number(address.searchParams.get("from"));
  const to = Number(address.searchParams.get("to"));
  if (from > 0 && to > from) return { from, to };
  return { last: address.searchParams.get("last") ?? "1d" };
}

function addressOf(series: string[], range: Range): string {
  const query = new URLSearchParams(series.map((s) => ["series", s]));
  if (range.last !== undefined) query.set("last", range.last);
  else {
    query.set("from", String(Math.round(range.from)));
    query.set("to", String(Math.round(range.to)));
  }
  return `/trends?${query}`;
}
