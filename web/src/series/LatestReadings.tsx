import { useQuery } from "@tanstack/react-query";
import { ask, type Series } from "../api/client";
import { decimalsOfSeries, fixed, stateName } from "../format";
import { Failed } from "../parts/Said";
import { longTime } from "../time/format";
import { convert, useUnits } from "../units";

interface Props {
  series: Series;
  zone: string;
  /** Readings are kept here; elsewhere only summaries. */
  collects: boolean;
}

const shown = 8;

interface Latest {
  time: number;
  value: number | null;
}

/** The last few readings; where only summaries are, the last values of the last minutes. */
export function LatestReadings({ series, zone, collects }: Props) {
  const to = useUnits().of(series.unit);
  const found = useQuery({
    queryKey: ["latest", series.path, collects],
    queryFn: () => (collects ? readings(series) : minutes(series)),
    refetchInterval: 5000,
  });
  const text = (v: number | null) =>
    series.kind === "state"
      ? stateName(series.states, v)
      : `${fixed(convert(v, to), Math.max(decimalsOfSeries(series.path, v), to.symbol ? 1 : 0))} ${to.written}`;
  return (
    <div className="mt-3" data-latest>
      <h3 className="text-sm text-soft">{collects ? "Last readings" : "Last of each minute"}</h3>
      <Failed error={found.error} />
      <table className="w-full text-sm">
        <tbody>
          {(found.data ?? []).map((r) => (
            <tr key={r.time}>
              <td className="pr-3 whitespace-nowrap text-soft">{longTime(r.time, zone, true)}</td>
              <td className="text-right whitespace-nowrap">{text(r.value)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {found.data?.length === 0 && <p className="text-sm text-soft">None in the last hour.</p>}
    </div>
  );
}

async function readings(series: Series): Promise<Latest[]> {
  const answer = await ask("readings", { select: series.path, last: "1h" });
  const all = answer.series[0]?.readings ?? [];
  return all
    .slice(-shown)
    .reverse()
    .map((r) => ({ time: Date.parse(r.time), value: r.value }));
}

async function minutes(series: Series): Promise<Latest[]> {
  const answer = await ask("windows", {
    select: series.path,
    last: "1h",
    width: "1m",
    stats: "last,last_at",
  });
  const one = answer.series[0];
  const out: Latest[] = [];
  for (let i = answer.starts.length - 1; one && i >= 0 && out.length < shown; i--) {
    const at = one.times.last_at?.[i];
    if (at) out.push({ time: Date.parse(at), value: one.values.last?.[i] ?? null });
  }
  return out;
}
