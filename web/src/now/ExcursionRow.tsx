import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { ask } from "../api/client";
import { number, pathWords } from "../format";
import { Spark } from "../head/Spark";
import { Mark } from "../parts/Mark";
import { shortTime } from "../time/format";
import { convert, useUnits } from "../units";
import { around, type Excursed } from "./happened";
import { HappenedRow } from "./HappenedRow";

interface Props {
  excursed: Excursed;
  zone: string;
  span: { from: number; to: number };
  live: boolean;
  children: ReactNode;
}

/** One series: when, how far, beside what is normal, and the time as a line. */
export function ExcursionRow({ excursed: e, zone, span, live, children }: Props) {
  const to = useUnits().of(e.unit);
  const stat = e.side === "high" ? "max" : "min";
  const line = useQuery({
    queryKey: ["excursion-line", e.path, span.from, Math.floor(span.to / 600_000)],
    queryFn: ({ signal }) => ask("windows", lineQuery(e.path, span, stat), signal),
    staleTime: 600_000,
  });
  const values = line.data?.series[0]?.values[stat];
  const value = (v: number | null) => number(convert(v, to));
  return (
    <HappenedRow to={around("/trends", { series: e.path }, e.from, e.to)} name={pathWords(e.path)}>
      {values && <Spark values={values} width={120} height={24} />}
      <span>
        <strong className="font-semibold">
          {value(e.extreme)} {to.written}
        </strong>{" "}
        at {shortTime(e.extremeAt, zone)}, {e.side === "high" ? "above" : "below"} {value(e.limit)}{" "}
        {to.written}
      </span>
      <span className="text-soft">{children}</span>
      {e.beyond === "outer" && <Mark look="bad">critical</Mark>}
      {!e.over && <Mark look="stale">{live ? "still outside" : "outside at the end"}</Mark>}
    </HappenedRow>
  );
}

/** Some sixty windows of a time. */
function lineQuery(
  select: string,
  span: { from: number; to: number },
  stats: string,
): Record<string, string> {
  const width = `${Math.max(1, Math.ceil((span.to - span.from) / 60 / 60_000))}m`;
  return {
    select,
    from: new Date(span.from).toISOString(),
    to: new Date(span.to).toISOString(),
    width,
    stats,
  };
}
