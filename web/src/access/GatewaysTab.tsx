import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ask, remove, send } from "../api/client";
import { useHealth } from "../api/hooks";
import { moment } from "../format";
import { entry, Field, mainButton } from "../parts/Field";
import { Mark } from "../parts/Mark";
import { Failed, Once } from "../parts/Said";
import { Sure } from "../parts/Sure";
import { cell, row, Table } from "../parts/Table";

/** Gateways that have a credential of their own. */
export function GatewaysTab() {
  const client = useQueryClient();
  const health = useHealth();
  const all = useQuery({
    queryKey: ["gateways"],
    queryFn: () => ask("gateways"),
    refetchInterval: 10_000,
  });
  const changed = () => client.invalidateQueries({ queryKey: ["gateways"] });
  const [site, setSite] = useState("");
  const enrol = useMutation({ mutationFn: () => send("gateways", { gateway: site }) });
  const revoke = useMutation({
    mutationFn: (of: string) => remove("gateways/{gateway}", { gateway: of }),
    onSuccess: changed,
  });
  if (health.data && !health.data.central)
    return <p>This service is no central; gateways join at the console of one.</p>;
  return (
    <>
      <div className="flex flex-wrap items-end gap-3">
        <Field label="Site of the gateway">
          <input
            className={entry}
            name="gateway"
            value={site}
            placeholder="long-mere"
            onChange={(e) => setSite(e.target.value)}
          />
        </Field>
        <button
          type="button"
          className={mainButton}
          disabled={!site || enrol.isPending}
          onClick={() => enrol.mutate()}
        >
          Let it join
        </button>
      </div>
      {enrol.data && (
        <Once label={`Code for ${enrol.data.gateway}`} secret={enrol.data.code}>
          {`Good for one use, until ${moment(enrol.data.ends)}. At the gateway: nexocumula join --config FILE.` +
            (enrol.data.fingerprint ? ` The fingerprint it shows has to be ${enrol.data.fingerprint}.` : "")}
        </Once>
      )}
      <Failed error={enrol.error ?? revoke.error ?? all.error} />
      <Table head={["gateway", "may send", "joined", "credential since", "last used", "from", ""]}>
        {all.data?.gateways.map((g) => (
          <tr key={g.gateway} className={row} data-gateway={g.gateway}>
            <td className={cell}>
              {g.gateway} {g.revoked && <Mark look="bad">revoked</Mark>}
            </td>
            <td className={cell}>{g.sites.join(", ")}</td>
            <td className={cell}>{moment(g.enrolled)}</td>
            <td className={cell}>{moment(g.renewed)}</td>
            <td className={cell}>{moment(g.used)}</td>
            <td className={cell}>{g.from}</td>
            <td className={`${cell} text-right`}>
              {!g.revoked && (
                <Sure
                  name="Revoke"
                  question={`${g.gateway} may send no more. It keeps what it collects, until it joins again.`}
                  className="text-bad underline underline-offset-4"
                  onYes={() => revoke.mutate(g.gateway)}
                />
              )}
            </td>
          </tr>
        ))}
      </Table>
      {all.data?.gateways.length === 0 && (
        <p className="mt-3 text-soft">
          No gateway has joined with a code. Those with a secret in the configuration are on Links.
        </p>
      )}
    </>
  );
}
