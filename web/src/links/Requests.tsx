import { useRequests } from "../api/hooks";
import { Table, cell, row } from "../parts/Table";
import { longTime } from "../time/format";

/** What gateways were asked, the newest first. */
export function Requests({ zone }: { zone: string }) {
  const found = useRequests({ limit: "20" });
  const all = found.data?.requests ?? [];
  if (all.length === 0) return null;
  return (
    <section aria-label="Requests" className="mt-6">
      <h2 className="text-lg font-semibold">Requests</h2>
      <Table
        label="What gateways were asked"
        head={["asked", "by", "site", "what", "state", ">progress", "detail"]}
      >
        {all.map((r) => (
          <tr key={r.id} className={row}>
            <td className={`${cell} whitespace-nowrap`}>{longTime(Date.parse(r.made_at), zone, true)}</td>
            <td className={cell}>{r.author}</td>
            <td className={`${cell} whitespace-nowrap`}>{r.site}</td>
            <td className={cell}>{r.kind}</td>
            <td className={`${cell} ${r.state === "refused" || r.state === "expired" ? "text-bad" : ""}`}>
              {r.state}
            </td>
            <td className={`${cell} text-right`}>{Math.round(100 * r.progress)} %</td>
            <td className={cell}>{r.detail}</td>
          </tr>
        ))}
      </Table>
    </section>
  );
}
