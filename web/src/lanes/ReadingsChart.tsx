import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { ask, type BoardLane, type Readings } from "../api/client";
import { at, matches } from "../board/board";
import { count, number } from "../format";
import { Link } from "../parts/Link";
import { seconds } from "../time/duration";
import { isLive, spanOf } from "../time/range";
import { convert } from "../units";
import { axisOf, seriesOf } from "./axes";
import { Chart } from "./Chart";
import type { Normal } from "./chartOptions";
import { kindOf } from "./kinds";
import type { Line } from "./lines";
import { labelsOf } from "./rows";
import { useView, xOf, type View } from "./view";
import { serviceNow } from "../time/clock";

const mostReadings = 5000;
const mostRejects = 200;

/** Whether a lane shows the readings themselves: where they are kept, and so few windows fit the
 *  range that each would hold one reading or so. */
export function readingsFit(lane: BoardLane, view: View): boolean {
  return view.collects && detailFits(lane, view);
}

/** Whether the readings would fit, wherever they are kept. */
export function detailFits(lane: BoardLane, view: View): boolean {
  return (
    kindOf(lane).detailed === true &&
    !lane.stat &&
    !lane.difference &&
    !lane.calculate &&
    !view.compare &&
    !view.hours &&
    seconds(view.width) <= 10
  );
}

interface Props {
  lane: BoardLane;
  axes: string[];
  height: number;
  single: string | null;
  normal?: Normal;
  rejects: boolean;
}

/** The readings of a lane's series, and on request what was refused, in place. */
export function ReadingsChart({ lane, axes, height, single, normal, rejects }: Props) {
  const view = useView();
  const names = (lane.series ?? []).map((s) => at(s, view.about)).filter((s) => s !== undefined);
  const going = isLive(view.range);
  const answers = useQueries({
    queries: names.map((select) => ({
      queryKey: ["readings", select, view.range],
      queryFn: ({ signal }: { signal: AbortSignal }) => {
        const span = spanOf(view.range, serviceNow(), view.zone);
        return ask(
          "readings",
          {
            select,
            from: new Date(span.from).toISOString(),
            to: new Date(span.to).toISOString(),
            limit: String(mostReadings),
          },
          signal,
        );
      },
      refetchInterval: going ? (view.collects ? 5000 : 2000) : (false as const),
      gcTime: 60_000,
    })),
  });
  const data = answers.map((a) => a.data);
  const loading = answers.some((a) => a.isPending);
  const stamp = answers.map((a) => a.dataUpdatedAt).join();
  const lines = useMemo(
    () =>
      linesOfReadings(
        lane,
        data.filter((d) => d !== undefined),
        axes,
        view,
      ),
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the stamp says when any of the answers is another
    [stamp, lane, axes, view.units],
  );
  const [before, setBefore] = useState(lines);
  if (!loading && before !== lines) setBefore(lines);
  const meanwhile = loading ? before.filter((l) => names.some((name) => matches(name, l.name))) : [];
  return (
    <>
      <Chart
        lane={lane}
        lines={meanwhile.length > 0 ? meanwhile : lines}
        axes={axes}
        height={height}
        single={single}
        normal={normal}
      />
      {data.some((d) => d?.series.some((s) => s.readings.length >= mostReadings)) && (
        <p className="absolute top-0 right-1 rounded-sheet bg-stale-wash px-1 text-xs text-stale" data-cut>
          only the first {count(mostReadings)} readings of a series are drawn: zoom in
        </p>
      )}
      {rejects && names.map((n) => <RejectMarks key={n} select={n} height={height} />)}
    </>
  );
}

function linesOfReadings(lane: BoardLane, answers: Readings[], axes: string[], view: View): Line[] {
  const all = answers.flatMap((a) => a.series).filter((s) => !s.path.endsWith("/quality"));
  const labels = labelsOf(all.map((s) => s.path));
  return all.flatMap((s, i): Line[] => {
    const to = view.units(s.unit);
    const axis = axisOf(lane, axes, to.written);
    if (axis < 0) return [];
    const line: Line = {
      key: s.path,
      name: s.path,
      label: labels[i] ?? s.path,
      hue: i,
      ghost: false,
      axis,
      unit: to.written,
      x: s.readings.map((r) => Date.parse(r.time) / 1000),
      mid: s.readings.map((r) => convert(r.value, to)),
      low: [],
      high: [],
      band: false,
    };
    return [line];
  });
}

/** What was refused, at the time it was of; its page says why. */
function RejectMarks({ select, height }: { select: string; height: number }) {
  const view = useView();
  const found = useQuery({
    queryKey: ["rejects", select, view.range],
    queryFn: () => {
      const span = spanOf(view.range, serviceNow(), view.zone);
      return ask("rejects", {
        select,
        from: new Date(span.from).toISOString(),
        to: new Date(span.to).toISOString(),
        limit: String(mostRejects),
      });
    },
    placeholderData: keepPreviousData,
  });
  const unit = view.units(seriesOf({ kind: "chart", series: [select] }, view.catalogue)[0]?.unit ?? "");
  const shown = found.data?.rejects ?? [];
  return (
    <>
      {shown.length >= mostRejects && (
        <p className="absolute bottom-0 left-1 rounded-sheet bg-stale-wash px-1 text-xs text-stale">
          only the newest {count(mostRejects)} rejects are marked: zoom in
        </p>
      )}
      {shown.map((r) => (
        <Link
          key={r.id}
          to={`/rejects?id=${r.id}`}
          label={`Refused: ${r.reason}`}
          className="absolute -translate-x-1/2 rounded-sheet bg-bad-wash px-0.5 text-xs text-bad"
          style={{ left: xOf(view, Date.parse(r.reading_time ?? r.time)), top: height - 22 }}
        >
          ×{r.value !== null && <span className="sr-only">{number(convert(r.value, unit))}</span>}
        </Link>
      ))}
    </>
  );
}
