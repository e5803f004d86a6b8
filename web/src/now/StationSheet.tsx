import { useQuery } from "@tanstack/react-query";
import { memo, useDeferredValue, useMemo } from "react";
import { ask, type Series } from "../api/client";
import { words } from "../format";
import { Link } from "../parts/Link";
import type { UnitsOf } from "../units";
import { SeriesRow } from "./SeriesRow";

interface Props {
  station: string;
  paths: string[];
  catalogue: Map<string, Series>;
  units: UnitsOf;
}

/** How high the sheet of a station is in px: its rows are all alike, so nothing has to be measured. */
export function sheetHeight(rows: number): number {
  return 2 + rem() * (1 + 1.5 + 2 * rows); // the border, the space inside, the heading, the rows
}

/** How many rows of a sheet are to be seen in so many px of it. */
export function rowsWithin(height: number): number {
  return Math.max(0, Math.ceil((height - sheetHeight(0)) / (2 * rem())));
}

let ofRoot = 0;
const rem = () => (ofRoot ||= parseFloat(getComputedStyle(document.documentElement).fontSize) || 16);

/** The latest values of one station. */
export const StationSheet = memo(function StationSheet({ station, paths, catalogue, units }: Props) {
  const name = station.split("/").slice(1).join(", ") || station;
  const values = useDeferredValue(true, false); // are drawn first, and their day is asked for then
  const day = useQuery({
    enabled: values,
    queryKey: ["station-day", station],
    queryFn: ({ signal }) =>
      ask("windows", { select: `${station}/+`, last: "1d", width: "30m", stats: "mean" }, signal),
    refetchInterval: 120_000,
    staleTime: 60_000,
  });
  const sparks = useMemo(
    () => new Map((day.data?.series ?? []).map((s) => [s.name, s.values.mean])),
    [day.data],
  );
  return (
    <article
      className="h-full overflow-hidden rounded-sheet border border-rule bg-sheet px-3 py-2"
      data-station={station}
    >
      <h3 className="h-6 truncate font-semibold">
        <Link
          to={`/boards/place?about=${encodeURIComponent(station)}`}
          className="target max-w-full truncate hover:underline"
        >
          {words(name)}
        </Link>
      </h3>
      <table className="w-full table-fixed">
        <colgroup>
          <col />
          <col className="w-[6.75rem]" />
          <col className="hidden w-[3.75rem] sm:table-column print:hidden" />
          <col className="w-[5.75rem]" />
        </colgroup>
        <tbody>
          {paths.map((path) => (
            <SeriesRow
              key={path}
              path={path}
              series={catalogue.get(path)}
              units={units}
              day={catalogue.get(path)?.kind === "gauge" ? sparks.get(path) : undefined}
            />
          ))}
        </tbody>
      </table>
    </article>
  );
});
