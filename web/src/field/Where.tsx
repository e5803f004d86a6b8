import type { ChangeEvent } from "react";
import { entry, Field } from "../parts/Field";

interface Props {
  sources: { name: string }[];
  source: string;
  onSource: (name: string) => void;
  /** What else can be looked at, by its address. */
  other: "broker" | "device";
  address: string;
  onAddress: (e: ChangeEvent<HTMLInputElement>) => void;
  placeholder: string;
  disabled?: boolean;
}

/** One of the gateway's sources, or the address of something that no configuration knows. */
export function Where({
  sources,
  source,
  onSource,
  other,
  address,
  onAddress,
  placeholder,
  disabled,
}: Props) {
  return (
    <>
      <Field label="Where">
        <select
          className={entry}
          value={source}
          onChange={(e) => onSource(e.target.value)}
          disabled={disabled}
        >
          <option value="">another {other}</option>
          {sources.map((s) => (
            <option key={s.name} value={s.name}>
              source {s.name}
            </option>
          ))}
        </select>
      </Field>
      {!source && (
        <Field label={`Address of the ${other}`}>
          <input
            className={`${entry} w-72`}
            name={other}
            value={address}
            placeholder={placeholder}
            onChange={onAddress}
            disabled={disabled}
          />
        </Field>
      )}
    </>
  );
}
