import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ask, remove, send, type Body } from "../api/client";
import { moment } from "../format";
import { entry, Field, mainButton } from "../parts/Field";
import { Mark } from "../parts/Mark";
import { Failed, Once } from "../parts/Said";
import { Sure } from "../parts/Sure";
import { cell, row, Table } from "../parts/Table";
import { useClock } from "../live/useClock";
import { roles, RightsFields, seen, selectors } from "./RightsFields";
import { serviceNow } from "../time/clock";

const lengths: Record<string, number> = { "7 days": 7, "90 days": 90, "a year": 365 };

/** Tokens of scripts and senders. */
export function TokensTab() {
  const client = useQueryClient();
  const clock = useClock();
  const all = useQuery({ queryKey: ["tokens"], queryFn: () => ask("tokens") });
  const changed = () => client.invalidateQueries({ queryKey: ["tokens"] });
  const [name, setName] = useState("");
  const [rights, setRights] = useState({ role: "viewer", sees: "" });
  const [length, setLength] = useState("90 days");
  const add = useMutation({
    mutationFn: () => {
      const days = lengths[length];
      const ends = days ? { ends: new Date(serviceNow() + days * 86_400_000).toISOString() } : {};
      return send("tokens", {
        name,
        role: rights.role as Body<"tokens">["role"],
        sees: selectors(rights.sees),
        ...ends,
      });
    },
    onSuccess: changed,
  });
  const revoke = useMutation({
    mutationFn: (of: string) => remove("tokens/{token}", { token: of }),
    onSuccess: changed,
  });
  return (
    <>
      <div className="flex flex-wrap items-end gap-3">
        <Field label="New token">
          <input
            className={entry}
            name="token"
            value={name}
            autoComplete="off"
            onChange={(e) => setName(e.target.value)}
          />
        </Field>
        <RightsFields roles={[...roles, "sender"]} value={rights} onChange={setRights} />
        <Field label="Good for">
          <select className={entry} name="ends" value={length} onChange={(e) => setLength(e.target.value)}>
            {[...Object.keys(lengths), "ever"].map((l) => (
              <option key={l}>{l}</option>
            ))}
          </select>
        </Field>
        <button
          type="button"
          className={mainButton}
          disabled={!name || add.isPending}
          onClick={() => add.mutate()}
        >
          Create
        </button>
      </div>
      {add.data && (
        <Once label={`Token ${add.data.name}`} secret={add.data.secret}>
          It is shown this once.
        </Once>
      )}
      <Failed error={add.error ?? revoke.error ?? all.error} />
      <Table head={["token", "role", "sees", "ends", "last used", "from", "made by", ""]}>
        {all.data?.tokens.map((t) => (
          <tr key={t.name} className={row} data-token={t.name}>
            <td className={cell}>
              {t.name} {t.ends && Date.parse(t.ends) < clock && <Mark look="stale">ended</Mark>}
            </td>
            <td className={cell}>{t.role}</td>
            <td className={cell}>{seen(t.sees)}</td>
            <td className={cell}>{moment(t.ends)}</td>
            <td className={cell}>{moment(t.used)}</td>
            <td className={cell}>{t.from}</td>
            <td className={cell}>{t.creator}</td>
            <td className={`${cell} text-right`}>
              <Sure
                name="Revoke"
                question={`What shows the token ${t.name} is let in no more.`}
                className="text-bad underline underline-offset-4"
                onYes={() => revoke.mutate(t.name)}
              />
            </td>
          </tr>
        ))}
      </Table>
      {all.data?.tokens.length === 0 && <p className="mt-3 text-soft">There are no tokens yet.</p>}
    </>
  );
}
