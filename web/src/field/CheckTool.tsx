import { useMutation } from "@tanstack/react-query";
import { ask, send, type Checked, type Plan } from "../api/client";
import { button, mainButton } from "../parts/Field";
import { Mark } from "../parts/Mark";
import { Table } from "../parts/Table";

/** Checks the configuration's file, with what it reaches, and reckons what it costs. */
export function CheckTool() {
  const check = useMutation({
    mutationFn: (live: boolean) => send("field/check", { live, wait: "5s" }),
  });
  const plan = useMutation({ mutationFn: () => ask("field/plan") });
  const failed = check.error ?? plan.error;
  return (
    <>
      <div className="flex flex-wrap gap-2">
        <button
          type="button"
          className={mainButton}
          disabled={check.isPending}
          onClick={() => check.mutate(true)}
        >
          Check with devices and brokers
        </button>
        <button
          type="button"
          className={button}
          disabled={check.isPending}
          onClick={() => check.mutate(false)}
        >
          Check the file only
        </button>
        <button type="button" className={button} disabled={plan.isPending} onClick={() => plan.mutate()}>
          Estimate the cost
        </button>
      </div>
      {check.isPending && (
        <p className="mt-3 text-soft">Checking; what is reached has five seconds to answer …</p>
      )}
      {failed && (
        <p role="alert" className="mt-3 whitespace-pre-wrap text-bad">
          {failed.message}
        </p>
      )}
      {check.data && <Findings found={check.data} />}
      {plan.data && <Costs plan={plan.data} />}
    </>
  );
}

function Findings({ found }: { found: Checked }) {
  const broken = found.live.filter((l) => !l.works).length;
  return (
    <section aria-label="Findings" className="mt-4">
      {found.problems.length > 0 ? (
        <>
          <p role="status" className="text-bad">
            {found.problems.length} mistakes in {found.file}; a running gateway keeps what it has.
          </p>
          <pre className="mt-2 overflow-x-auto text-sm">{found.problems.join("\n")}</pre>
        </>
      ) : (
        <p role="status" className={broken > 0 ? "text-bad" : "text-good"}>
          {found.file} is good
          {found.live.length > 0 &&
            (broken > 0 ? `; ${broken} of ${found.live.length} do not work` : ", and all works")}
          .
        </p>
      )}
      {found.live.length > 0 && (
        <Table head={["of", "works", "series", ">value", "says"]}>
          {found.live.map((l, i) => (
            <tr key={i} className="border-t border-rule align-top" data-checked={l.of}>
              <td className="px-3 py-1">{l.of}</td>
              <td className="px-3 py-1">
                <Mark look={l.works ? "good" : "bad"}>{l.works ? "works" : "does not"}</Mark>
              </td>
              <td className="px-3 py-1">{l.series}</td>
              <td className="px-3 py-1 text-right whitespace-nowrap">
                {l.value} {l.unit}
              </td>
              <td className="px-3 py-1">{l.says}</td>
            </tr>
          ))}
        </Table>
      )}
    </section>
  );
}

const whole = (n: number) => Math.round(n).toLocaleString("en-GB");
const megabytes = (n: number) => (n / 1e6).toLocaleString("en-GB", { maximumFractionDigits: 2 });

function Costs({ plan }: { plan: Plan }) {
  const rows: [string, string][] = [
    ...plan.lines.map((l): [string, string] => [
      `requests of ${l.source}`,
      `${whole(l.requests)} an hour${l.busy > 0 ? `, ${(100 * l.busy).toFixed(1)} % of its line's time` : ""}`,
    ]),
    ["series", whole(plan.series)],
    ["readings", `${whole(plan.readings)} a day`],
    ...plan.summaries.map((s): [string, string] => [`summaries of ${s.tier}`, `${whole(s.rows)} a day`]),
    ["the store grows by", `${megabytes(plan.disk)} MB a day`],
    ...plan.uplinks.map((u): [string, string] => [
      `the uplink to ${u.name} takes`,
      `${megabytes(u.bytes)} MB a day${u.share > 0 ? `, ${Math.round(100 * u.share)} % of what it may use` : ""}`,
    ]),
    ["commits", `${whole(plan.commits)} an hour`],
    ["the disk lasts for an outage of", `${whole(Math.min(plan.outage, 100_000))} days`],
  ];
  return (
    <section aria-label="Costs" className="mt-4 rounded-sheet border border-rule bg-sheet px-3 py-2">
      <h3 className="font-semibold">What the configuration costs</h3>
      <table className="mt-2">
        <tbody>
          {rows.map(([what, much]) => (
            <tr key={what} data-cost={what}>
              <th scope="row" className="py-0.5 pr-6 text-left font-normal text-soft">
                {what}
              </th>
              <td className="py-0.5 text-right">{much}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {plan.unknown.map((text) => (
        <p key={text} className="mt-1 text-stale">
          Not counted: {text}.
        </p>
      ))}
      <p className="mt-2 text-sm text-soft">Assumed: {plan.assumes.join("; ")}.</p>
    </section>
  );
}
