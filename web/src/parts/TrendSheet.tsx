import type { SeriesWindows, Windows } from "../api/client";
import { useWindows } from "../api/hooks";
import { TrendChart } from "../chart/TrendChart";
import type { Range } from "../range";
import { RangeStats } from "./RangeStats";

interface Props {
  path: string;
  range: Range;
  onZoom: (from: number, to: number) => void;
  onRemove: () => void;
}

/** One series: its chart and the statistics of the range. */
export function TrendSheet({ path, range, onZoom, onRemove }: Props) {
  const windows = useWindows(path, range);
  const series = windows.data?.series[0];
  return (
    <section aria-label={path} className="mt-6 rounded-sheet border border-rule bg-sheet p-3">
      <div className="flex flex-wrap items-baseline gap-x-4">
        <h2 className="font-semibold">{path}</h2>
        {series && windows.data && <p className="text-sm text-soft">{caption(windows.data, series)}</p>}
        <button
          type="button"
          onClick={onRemove}
          aria-label={`Remove ${path}`}
          className="ml-auto px-2 text-soft"
        >
          Remove
        </button>
      </div>
      {windows.error && (
        <p role="alert" className="mt-2 text-bad">
          {windows.error.message}
        </p>
      )}
      {series && windows.data && (
        <>
          {series.empty.includes(false) ? (
            <TrendChart windows={windows.data} series={series} onZoom={onZoom} />
          ) : (
            <p className="py-12 text-center text-soft">No data in this range.</p>
          )}
          <RangeStats series={series} />
        </>
      )}
    </section>
  );
}

function caption(windows: Windows, series: SeriesWindows): string {
  const unit = series.unit ? `${series.unit}, ` : "";
  return `${unit}windows of ${windows.width} from ${series.tier === "readings" ? "the readings" : `${series.tier} summaries`}`;
}
