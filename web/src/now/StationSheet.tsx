import { useQuery } from "@tanstack/react-query";
import { memo, useMemo } from "react";
import { ask, type Series, type Windows } from "../api/client";
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

/** The latest values of one station. */
export const StationSheet = memo(function StationSheet({ station, paths, catalogue, units }: Props) {
  const name = station.split("/").slice(1).join(", ") || station;
  const day = useQuery({
    queryKey: ["station-day", station],
    queryFn: ({ signal }) =>
      ask<Windows>("windows", { select: `${station}/+`, last: "1d", width: "30m", stats: "mean" }, signal),
    refetchInterval: 120_000,
    staleTime: 60_000,
  });
  const sparks = useMemo(
    () => new Map((day.data?.series ?? []).map((s) => [s.name, s.values.mean])),
    [day.data],
  );
  return (
    <article className="rounded-sheet border border-rule bg-sheet px-3 py-2" data-station={station}>
      <h3 className="font-semibold">
        <Link to={`/boards/place?about=${encodeURIComponent(station)}`} className="hover:underline">
          {words(name)}
        </Link>
      </h3>
      <table className="w-full table-fixed">
        <colgroup>
          <col />
          <col className="w-[5.5rem]" />
          <col className="w-12" />
          <col className="hidden w-20 sm:table-column" />
          <col className="w-24" />
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
