import { useState } from "react";
import type { components } from "../api/schema.gen";
import { entry } from "../parts/Field";

export interface Taken {
  keys: string;
  series: string;
  unit: string;
}

interface Props {
  register: components["schemas"]["ProbedRegister"];
  onTake: (taken: Taken) => void;
}

const digits = (v: number | null | undefined) =>
  v == null
    ? "–"
    : v !== 0 && (Math.abs(v) >= 1e7 || Math.abs(v) < 1e-4)
      ? v.toExponential(3)
      : v.toLocaleString("en-GB", { maximumSignificantDigits: 6 });

/** One address: the ways to read it, and what it is called once somebody knows. */
export function RegisterRow({ register, onTake }: Props) {
  const [at, setAt] = useState(0);
  const [series, setSeries] = useState("");
  const [unit, setUnit] = useState("");
  const one = register.interpretations[at];
  if (!one) return null;
  const tell = (next: { at?: number; series?: string; unit?: string }) =>
    onTake({
      keys: register.interpretations[next.at ?? at]?.keys ?? one.keys,
      series: next.series ?? series,
      unit: next.unit ?? unit,
    });
  return (
    <tr className="border-t border-rule align-top" data-address={register.address}>
      <td className="px-3 py-1 text-right">{register.address}</td>
      <td className="px-3 py-1">
        <select
          aria-label={`Interpretation of address ${register.address}`}
          className={`${entry} w-64`}
          value={at}
          onChange={(e) => {
            setAt(Number(e.target.value));
            tell({ at: Number(e.target.value) });
          }}
        >
          {register.interpretations.map((i, n) => (
            <option key={i.says} value={n}>
              {i.says}: {digits(i.values.at(-1))}
            </option>
          ))}
        </select>
        {register.text && <p className="text-sm text-soft">as letters: {register.text}</p>}
      </td>
      <td className="px-3 py-1 text-right whitespace-nowrap">
        {digits(one.values[0])}
        {one.values.length > 1 && ` … ${digits(one.values.at(-1))}`}
      </td>
      <td className="min-w-40 px-3 py-1 text-sm text-soft">
        {one.why.join(", ")}
        {one.same.length > 0 && ` (the same as ${one.same.slice(0, 2).join("; ")})`}
      </td>
      <td className="px-3 py-1">
        <input
          aria-label={`Series of address ${register.address}`}
          className={`${entry} w-40`}
          placeholder="station/quantity"
          value={series}
          onChange={(e) => {
            setSeries(e.target.value);
            tell({ series: e.target.value });
          }}
        />
      </td>
      <td className="px-3 py-1">
        <input
          aria-label={`Unit of address ${register.address}`}
          className={`${entry} w-16`}
          placeholder="mg/l"
          value={unit}
          onChange={(e) => {
            setUnit(e.target.value);
            tell({ unit: e.target.value });
          }}
        />
      </td>
    </tr>
  );
}
