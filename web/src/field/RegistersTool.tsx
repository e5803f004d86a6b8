import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { send, type LinesFor, type Body } from "../api/client";
import { useHealth } from "../api/hooks";
import { button, entry, Field, mainButton } from "../parts/Field";
import { LinesSheet } from "./LinesSheet";
import { RangesFound, UnitsFound } from "./Found";
import { RegisterRow, type Taken } from "./RegisterRow";
import { Where } from "./Where";

const numbers = [
  ["unit", "Unit"],
  ["first", "First"],
  ["count", "How many"],
  ["times", "Times, 1 s apart"],
  ["low", "Expected from"],
  ["high", "to"],
] as const;

/** What the registers of a device hold: who answers, what it gives, and what that may mean. */
export function RegistersTool() {
  const sources = (useHealth().data?.gateway?.sources ?? []).filter((s) => s.form === "modbus");
  const [where, setWhere] = useState("");
  const [form, setForm] = useState({
    address: "",
    unit: "1",
    table: "holding",
    first: "0",
    count: "8",
    times: "5",
    low: "",
    high: "",
    name: "device",
  });
  const [taken, setTaken] = useState<Record<number, Taken>>({});
  const set = (key: keyof typeof form) => (e: { target: { value: string } }) =>
    setForm({ ...form, [key]: e.target.value });
  const line = {
    ...(where ? { source: where } : { address: form.address }),
    unit: Number(form.unit),
  };
  const expected = {
    ...(form.low !== "" && { low: Number(form.low) }),
    ...(form.high !== "" && { high: Number(form.high) }),
  };
  const units = useMutation({
    mutationFn: () =>
      send("field/scan", {
        ...line,
        unit: 1,
        to_unit: 32,
        units: true,
        from: Number(form.first),
        timeout: "200ms",
      }),
  });
  const ranges = useMutation({
    mutationFn: () => send("field/scan", { ...line, table: form.table, from: 0, to: 199 }),
  });
  const read = useMutation({
    mutationFn: () =>
      send("field/probe", {
        ...line,
        ...expected,
        table: form.table as Body<"field/probe">["table"],
        first: Number(form.first),
        count: Number(form.count),
        times: Number(form.times),
        every: "1s",
        most: 5,
      }),
  });
  const lines = useMutation({
    mutationFn: () => {
      const want: LinesFor = {
        name: form.name,
        ...(where ? {} : { address: form.address }),
        unit: Number(form.unit),
        table: form.table,
        registers: Object.values(taken)
          .filter((t) => t.series)
          .map((t) => ({ keys: t.keys, series: t.series, unit: t.unit, ...expected })),
      };
      return send("field/lines", want);
    },
  });
  const busy = units.isPending || ranges.isPending || read.isPending;
  const failed = units.error ?? ranges.error ?? read.error ?? lines.error;
  return (
    <>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          setTaken({});
          lines.reset();
          read.mutate();
        }}
      >
        <Where
          sources={sources}
          source={where}
          onSource={setWhere}
          other="device"
          address={form.address}
          onAddress={set("address")}
          placeholder="tcp://10.0.0.7:502"
        />
        <Field label="Table">
          <select className={entry} name="table" value={form.table} onChange={set("table")}>
            {["holding", "input", "coil", "discrete_input"].map((t) => (
              <option key={t}>{t}</option>
            ))}
          </select>
        </Field>
        {numbers.map(([key, label]) => (
          <Field key={key} label={label}>
            <input className={`${entry} w-20`} name={key} value={form[key]} onChange={set(key)} />
          </Field>
        ))}
        <button type="submit" className={mainButton} disabled={busy || (!where && !form.address)}>
          {read.isPending ? "Reading …" : "Read"}
        </button>
        <button
          type="button"
          className={button}
          disabled={busy || (!where && !form.address)}
          onClick={() => units.mutate()}
        >
          {units.isPending ? "Asking …" : "Who answers, of 1 to 32?"}
        </button>
        <button
          type="button"
          className={button}
          disabled={busy || (!where && !form.address)}
          onClick={() => ranges.mutate()}
        >
          {ranges.isPending ? "Asking …" : "What does it give, of 0 to 199?"}
        </button>
      </form>
      {failed && (
        <p role="alert" className="mt-3 text-bad">
          {failed.message}
        </p>
      )}
      {units.data && <UnitsFound found={units.data} />}
      {ranges.data && <RangesFound found={ranges.data} of={form.unit} table={form.table} />}
      {read.data && read.data.registers.length === 0 && (
        <p className="mt-3">Bits: {read.data.samples.at(-1)?.words.join(" ")}</p>
      )}
      {read.data && read.data.registers.length > 0 && (
        <div className="mt-4 overflow-x-auto rounded-sheet border border-rule bg-sheet">
          <table className="w-full">
            <thead>
              <tr className="text-left text-sm text-soft">
                <th className="px-3 py-1 text-right font-normal">address</th>
                <th className="px-3 py-1 font-normal">reads as, likeliest first</th>
                <th className="px-3 py-1 text-right font-normal">value</th>
                <th className="px-3 py-1 font-normal">why</th>
                <th className="px-3 py-1 font-normal">take it as</th>
                <th className="px-3 py-1 font-normal">unit</th>
              </tr>
            </thead>
            <tbody>
              {read.data.registers.map((r) => (
                <RegisterRow
                  key={r.address}
                  register={r}
                  onTake={(t) => setTaken((before) => ({ ...before, [r.address]: t }))}
                />
              ))}
            </tbody>
          </table>
        </div>
      )}
      {read.data && (
        <div className="mt-3 flex flex-wrap items-end gap-3">
          {!where && (
            <Field label="Name of the source">
              <input className={entry} name="source" value={form.name} onChange={set("name")} />
            </Field>
          )}
          <button
            type="button"
            className={mainButton}
            disabled={!Object.values(taken).some((t) => t.series)}
            onClick={() => lines.mutate()}
          >
            Lines for the selection
          </button>
        </div>
      )}
      {lines.data && <LinesSheet key={lines.data.below + lines.data.rules} lines={lines.data} />}
    </>
  );
}
