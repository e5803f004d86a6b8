import type { BoardHead } from "../api/client";
import { seriesOf } from "../lanes/axes";
import { useView } from "../lanes/view";
import { useStream } from "../live/useLive";
import { HeadValue, titleOfHead } from "./HeadValue";

const most = 24;

/** The row of present values above the lanes. */
export function Head({ head }: { head: BoardHead[] }) {
  const view = useView();
  useStream();
  const shown = head.flatMap((h) =>
    seriesOf({ kind: "chart", series: [h.series] }, view.catalogue, view.about).map((series) => ({
      h,
      series,
    })),
  );
  if (shown.length === 0) return null;
  return (
    <div className="flex flex-wrap border-b border-rule bg-sheet" data-head-row>
      {shown.slice(0, most).map(({ h, series }) => (
        <HeadValue key={series.path} head={h} series={series} titled={titleOfHead(series.path)} />
      ))}
      {shown.length > most && (
        <p className="self-end px-3 py-2 text-sm text-soft">and {shown.length - most} more</p>
      )}
    </div>
  );
}
