import type { Value } from "../api/client";
import { age, reading, words } from "../format";
import { Link } from "./Link";
import { Mark } from "./Mark";

interface Props {
  station: string;
  values: Value[];
  clock: number;
  freshFor: Map<string, number>;
  uncertain: Set<string>;
}

/** The latest values of one station. */
export function StationSheet({ station, values, clock, freshFor, uncertain }: Props) {
  return (
    <article className="mb-4 break-inside-avoid rounded-sheet border border-rule bg-sheet px-3 py-2">
      <h3 className="font-semibold">{words(station)}</h3>
      <table className="w-full">
        <tbody>
          {values.map((v) => {
            const old = clock - Date.parse(v.time);
            const speaks = freshFor.get(v.path) ?? 60_000;
            const fresh = old <= speaks;
            return (
              <tr key={v.path} data-series={v.path}>
                <th scope="row" className="py-0.5 pr-2 text-left font-normal whitespace-nowrap text-soft">
                  <Link
                    to={`/trends?series=${encodeURIComponent(v.path)}`}
                    className="underline decoration-rule underline-offset-4 hover:decoration-water"
                  >
                    {words(v.path.slice(v.path.lastIndexOf("/") + 1))}
                  </Link>
                </th>
                <td className={`pl-2 text-right text-lg ${fresh ? "" : "text-soft"}`}>
                  {reading(v.value, v.state)}
                </td>
                <td className="w-12 pl-1 text-soft">{v.unit}</td>
                <td className="text-right text-sm whitespace-nowrap text-soft" title={v.time}>
                  {!fresh && (
                    <Mark look="stale">{`${old > 10 * speaks ? "missing" : "stale"}, ${age(old)}`}</Mark>
                  )}
                  {fresh && v.standing !== "normal" && (
                    <Mark look={v.standing === "critical" ? "bad" : "stale"}>{v.standing}</Mark>
                  )}
                  {fresh && uncertain.has(v.path) && <Mark look="stale">uncertain</Mark>}
                  {fresh && v.standing === "normal" && !uncertain.has(v.path) && age(old)}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </article>
  );
}
