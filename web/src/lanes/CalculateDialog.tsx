import { useState, type FormEvent } from "react";
import type { BoardLane } from "../api/client";
import { button, entry, Field, mainButton } from "../parts/Field";
import { Modal } from "../parts/Modal";
import { seriesOf } from "./axes";
import { labelsOf } from "./rows";
import { plainName } from "./questions";
import { useView } from "./view";

interface Props {
  lane: BoardLane;
  onChange: (lane: BoardLane) => void;
  onClose: () => void;
}

/** A line that is computed from the lane's series. */
export default function CalculateDialog({ lane, onChange, onClose }: Props) {
  const view = useView();
  const paths = seriesOf(lane, view.catalogue, view.about).map((s) => s.path);
  const short = labelsOf(paths).map((l) => plainName(l.toLowerCase()));
  const inputs = lane.calculate?.inputs ?? Object.fromEntries(paths.map((p, i) => [short[i] ?? `s${i}`, p]));
  const [formula, setFormula] = useState(
    lane.calculate?.formula ?? Object.keys(inputs).slice(0, 2).join(" - "),
  );
  const [name, setName] = useState(lane.calculate?.name ?? "calculated");
  const [unit, setUnit] = useState(lane.calculate?.unit ?? "");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    const used = Object.fromEntries(
      Object.entries(inputs).filter(([n]) => new RegExp(`\\b${n}\\b`).test(formula)),
    );
    onChange({
      ...lane,
      calculate: {
        name: plainName(name),
        formula,
        inputs: Object.keys(used).length ? used : inputs,
        unit: unit || undefined,
      },
    });
    onClose();
  };
  return (
    <Modal title="Calculate a line" onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <Field
          label="Formula"
          hint="+ − * / % **, comparison, and, or, a ? b : c, abs, sqrt, exp, log, round, min(a, b), max(a, b)"
        >
          <input
            name="formula"
            required
            value={formula}
            onChange={(e) => setFormula(e.target.value)}
            className={entry}
          />
        </Field>
        <p className="text-sm text-soft">In it stand for</p>
        <dl className="grid max-h-40 grid-cols-[auto_1fr] gap-x-3 overflow-y-auto text-sm">
          {Object.entries(inputs).map(([n, path]) => (
            <div key={n} className="contents">
              <dt>
                <button
                  type="button"
                  className="font-mono underline"
                  onClick={() => setFormula(`${formula} ${n}`.trim())}
                >
                  {n}
                </button>
              </dt>
              <dd className="truncate text-soft">{path}</dd>
            </div>
          ))}
        </dl>
        <div className="flex gap-3">
          <Field label="Name">
            <input
              name="called"
              required
              value={name}
              onChange={(e) => setName(e.target.value)}
              className={entry}
            />
          </Field>
          <Field label="Unit, if any">
            <input
              name="unit"
              value={unit}
              onChange={(e) => setUnit(e.target.value)}
              className={entry}
              placeholder="mg/l"
            />
          </Field>
        </div>
        <div className="flex justify-end gap-2">
          {lane.calculate && (
            <button
              type="button"
              className={button}
              onClick={() => {
                onChange({ ...lane, calculate: undefined });
                onClose();
              }}
            >
              Remove
            </button>
          )}
          <button type="submit" className={mainButton}>
            Draw
          </button>
        </div>
      </form>
    </Modal>
  );
}
