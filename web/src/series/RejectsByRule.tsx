import { useQuery } from "@tanstack/react-query";
import { ask, type Rejects } from "../api/client";
import { count } from "../format";
import { Link } from "../parts/Link";
import { Failed } from "../parts/Said";
import { cell, row, Table } from "../parts/Table";
import { longTime } from "../time/format";

const most = 1000;

/** What of a series was refused, by the rule that refused it. */
export function RejectsByRule({ path, zone }: { path: string; zone: string }) {
  const found = useQuery({
    queryKey: ["rejects-of", path],
    queryFn: () => ask("rejects", { select: path, limit: String(most) }),
    refetchInterval: 30_000,
  });
  const rules = new Map<string, Rejects["rejects"]>();
  for (const r of found.data?.rejects ?? []) rules.set(r.rule, [...(rules.get(r.rule) ?? []), r]);
  if (found.error) return <Failed error={found.error} />;
  if (rules.size === 0)
    return (
      <p className="text-sm text-soft">
        {found.isPending ? "Loading …" : "Nothing of it was refused, of what is kept."}
      </p>
    );
  const capped = (found.data?.rejects.length ?? 0) >= most;
  return (
    <>
      {capped && <p className="text-sm text-soft">Counted among the newest {count(most)} rejects only.</p>}
      <Table head={["rule", ">how many", "the last", "why"]}>
        {[...rules].map(([rule, all]) => (
          <tr key={rule} className={row} data-rule={rule}>
            <td className={cell}>
              <Link to={`/rejects?${new URLSearchParams({ rule, select: path })}`} className="underline">
                {rule}
              </Link>
            </td>
            <td className={`${cell} text-right`}>{count(all.length)}</td>
            <td className={`${cell} whitespace-nowrap`}>
              {all[0] && longTime(Date.parse(all[0].time), zone, true)}
            </td>
            <td className={cell}>{all[0]?.reason}</td>
          </tr>
        ))}
      </Table>
    </>
  );
}
