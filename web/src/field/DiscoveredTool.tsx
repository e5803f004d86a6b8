import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ask } from "../api/client";
import { moment, number } from "../format";
import { entry, Field, mainButton } from "../parts/Field";
import { LinesSheet } from "./LinesSheet";
import { Table } from "../parts/Table";

const from = { "": "", name: "guessed by its name", sender: "said by its sender" } as const;

/** Series that were found as they appeared, for somebody to say whether they are what they seem. */
export function DiscoveredTool() {
  const [select, setSelect] = useState("");
  const [lines, setLines] = useState("");
  const found = useQuery({
    queryKey: ["discovered", select],
    queryFn: () => ask("discovered", select ? { select } : {}),
    refetchInterval: 10_000,
  });
  const rules = found.data?.rules ?? [];
  const series = found.data?.series ?? [];
  return (
    <>
      {found.error && (
        <p role="alert" className="text-bad">
          {found.error.message}
        </p>
      )}
      {found.data && rules.length === 0 && (
        <p>No rule of this gateway finds series; one with discover: {"{}"} in its configuration would.</p>
      )}
      {rules.map((r) => (
        <p key={r.select} className={r.found >= r.most ? "text-bad" : undefined}>
          {r.select}: {r.found} of at most {r.most} are found.
          {r.found >= r.most && " Readings of further ones are rejected."}
        </p>
      ))}
      {rules.length > 0 && (
        <div className="mt-3 flex flex-wrap items-end gap-3">
          <Field label="Only">
            <input
              className={`${entry} w-72`}
              name="select"
              value={select}
              placeholder="long-mere/buoy-7/#"
              onChange={(e) => setSelect(e.target.value)}
            />
          </Field>
          <button
            type="button"
            className={mainButton}
            disabled={series.length === 0}
            onClick={() => setLines(found.data?.lines ?? "")}
          >
            Name them as they are
          </button>
        </div>
      )}
      {series.length > 0 && (
        <Table head={["series", "kind", "unit or states", ">last", "found", "last heard"]}>
          {series.map((s) => (
            <tr key={s.path} className="border-t border-rule align-top" data-discovered={s.path}>
              <td className="px-3 py-1">{s.path}</td>
              <td className="px-3 py-1">{s.kind}</td>
              <td className="px-3 py-1">
                {s.kind === "state" ? Object.keys(s.states).join(", ") : s.unit || "none known"}
                {s.unit && <span className="text-soft"> {from[s.unit_from]}</span>}
              </td>
              <td className="px-3 py-1 text-right">{s.state || number(s.value)}</td>
              <td className="px-3 py-1 whitespace-nowrap">{moment(s.first_seen)}</td>
              <td className="px-3 py-1 whitespace-nowrap">{moment(s.last_seen)}</td>
            </tr>
          ))}
        </Table>
      )}
      {lines && <LinesSheet key={lines} lines={{ sources: "", below: "", rules: lines, skipped: [] }} />}
    </>
  );
}
