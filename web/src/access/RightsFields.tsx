import { entry, Field } from "../parts/Field";

export interface Rights {
  role: string;
  sees: string;
}

interface Props {
  roles: string[];
  value: Rights;
  onChange: (value: Rights) => void;
}

/** What somebody may do, and of which series. */
export function RightsFields({ roles, value, onChange }: Props) {
  return (
    <>
      <Field label="Role">
        <select
          className={entry}
          name="role"
          value={value.role}
          onChange={(e) => onChange({ ...value, role: e.target.value })}
        >
          {roles.map((r) => (
            <option key={r}>{r}</option>
          ))}
        </select>
      </Field>
      <Field label="Sees only">
        <input
          className={`${entry} w-64`}
          name="sees"
          value={value.sees}
          placeholder="everything, or stony-beck/#"
          onChange={(e) => onChange({ ...value, sees: e.target.value })}
        />
      </Field>
    </>
  );
}

export const roles = ["viewer", "operator", "engineer", "administrator"];

/** Selectors, with blanks or commas between. */
export const selectors = (text: string) => text.split(/[\s,]+/).filter(Boolean);

export const seen = (sees: string[]) => (sees.length === 0 ? "everything" : sees.join(", "));
