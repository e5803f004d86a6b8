import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { send } from "../api/client";
import { useHealth } from "../api/hooks";
import { entry, Field, mainButton } from "../parts/Field";
import { Mark } from "../parts/Mark";
import { base64 } from "./preview";

const looks = { good: "good", uncertain: "stale", rejected: "bad" } as const;

/** Sends one payload, or registers, a source's whole way; nothing is stored. */
export function TryTool() {
  const sources = (useHealth().data?.gateway?.sources ?? []).filter((s) => s.form !== "http_push");
  const [picked, setPicked] = useState("");
  const [place, setPlace] = useState("");
  const [payload, setPayload] = useState("");
  const source = picked || sources[0]?.name || "";
  const modbus = sources.find((s) => s.name === source)?.form === "modbus";
  const trial = useMutation({
    mutationFn: () => send("sources/{source}/try", { place, raw: base64(payload, modbus) }, { source }),
  });
  return (
    <>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          trial.mutate();
        }}
      >
        <Field label="Source">
          <select className={entry} value={source} onChange={(e) => setPicked(e.target.value)}>
            {sources.map((s) => (
              <option key={s.name}>{s.name}</option>
            ))}
          </select>
        </Field>
        <Field label={modbus ? "Registers from" : "Topic"}>
          <input
            className={`${entry} w-60`}
            name="place"
            value={place}
            placeholder={modbus ? "unit 1, holding 0" : "buoy/buoy-1/state"}
            onChange={(e) => setPlace(e.target.value)}
          />
        </Field>
        <Field label={modbus ? "Words" : "Payload"}>
          <input
            className={`${entry} w-96 max-w-full`}
            name="payload"
            value={payload}
            placeholder={modbus ? "1012 0x3A7F" : '{"oxygen": 9.4}'}
            onChange={(e) => setPayload(e.target.value)}
          />
        </Field>
        <button type="submit" className={mainButton} disabled={!source || !place}>
          Try
        </button>
      </form>
      {trial.error && (
        <p role="alert" className="mt-3 text-bad">
          {trial.error.message}
        </p>
      )}
      {trial.data?.rejects.map((r) => (
        <p key={r.reason} className="mt-3 text-bad" data-tried>
          rejected: {r.reason}
        </p>
      ))}
      {trial.data?.readings.map((r) => (
        <section
          key={r.series + r.time}
          aria-label={r.series}
          data-tried
          className="mt-3 rounded-sheet border border-rule bg-sheet px-3 py-2"
        >
          <h3 className="flex flex-wrap items-baseline gap-3 font-semibold">
            {r.series} <Mark look={looks[r.outcome]}>{r.outcome}</Mark>
          </h3>
          <ol className="mt-1 list-decimal pl-6">
            <li>
              read: {[r.text || r.raw, r.raw_unit].filter((x) => x !== "").join(" ")}, of {r.time}
            </li>
            <li>
              calibrated{r.calibration ? ` (${r.calibration})` : ", which changes nothing"}:{" "}
              {r.state || r.value} {r.unit}
            </li>
            <li>
              screened:{" "}
              {r.rule
                ? `${r.rule}: ${r.reason}`
                : `nothing is wrong with it${r.standing ? `; it is ${r.standing}` : ""}`}
            </li>
            <li>
              windows:{" "}
              {r.windows.map((w) => `${w.tier} from ${w.start.slice(11, 19)}Z`).join(", ") ||
                "it would count in none"}
            </li>
          </ol>
        </section>
      ))}
    </>
  );
}
