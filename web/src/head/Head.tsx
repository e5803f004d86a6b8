import type { BoardHead, Series } from "../api/client";
import { seriesOf } from "../lanes/axes";
import { useView } from "../lanes/view";
import { useStream } from "../live/useLive";
import { headWide, high } from "../wall/fit";
import { HeadValue, titleOfHead } from "./HeadValue";

const most = 24;

/** The present values that a board's head names. */
export function headsOf(head: BoardHead[], catalogue: Map<string, Series>, about?: string) {
  return head.flatMap((h) =>
    seriesOf({ kind: "chart", series: [h.series] }, catalogue, about).map((series) => ({ h, series })),
  );
}

/** The row of present values above the lanes. */
export function Head({ head }: { head: BoardHead[] }) {
  const view = useView();
  useStream();
  const shown = headsOf(head, view.catalogue, view.about);
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

/** Present values on a wall: those from one number to another, in rows of one height. */
export function WallHead({ head, from, to }: { head: BoardHead[]; from: number; to: number }) {
  const view = useView();
  useStream();
  if (from === to) return null;
  return (
    <div
      className="grid border-b border-rule bg-sheet"
      style={{
        gridTemplateColumns: `repeat(auto-fill, minmax(${headWide}px, 1fr))`,
        gridAutoRows: high.head,
      }}
      data-head-row
    >
      {headsOf(head, view.catalogue, view.about)
        .slice(from, to)
        .map(({ h, series }) => (
          <HeadValue key={series.path} head={h} series={series} titled={titleOfHead(series.path)} />
        ))}
    </div>
  );
}
