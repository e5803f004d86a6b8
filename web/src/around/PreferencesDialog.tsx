import { Field, entry } from "../parts/Field";
import { Modal } from "../parts/Modal";
import { prefer, usePreferences } from "../preferences";
import { viewerZone } from "../time/zone";
import { useUnits } from "../units";

/** The units and clocks that this viewer likes; they are kept in the browser. */
export default function PreferencesDialog({ onClose }: { onClose: () => void }) {
  const { zone, units } = usePreferences();
  const { all } = useUnits();
  return (
    <Modal title="Units and clocks" onClose={onClose}>
      <p className="mb-3 text-sm text-soft">
        Kept in this browser. What is stored stays as it is; values are converted as they are shown, and
        downloads are in the units of the series.
      </p>
      <Field label="Clocks of">
        <select name="zone" value={zone} onChange={(e) => prefer({ zone: e.target.value })} className={entry}>
          <option value="site">the site</option>
          <option value="viewer">this machine, {viewerZone()}</option>
          <option value="UTC">UTC</option>
        </select>
      </Field>
      <div className="mt-3 grid grid-cols-2 gap-3">
        {all
          .filter((u) => u.to.length > 0)
          .map((u) => (
            <Field key={u.symbol} label={`Instead of ${u.written || u.symbol}`}>
              <select
                name={`unit-${u.symbol}`}
                value={units[u.symbol] ?? ""}
                onChange={(e) => {
                  const others = Object.fromEntries(Object.entries(units).filter(([of]) => of !== u.symbol));
                  prefer({ units: e.target.value ? { ...others, [u.symbol]: e.target.value } : others });
                }}
                className={entry}
              >
                <option value="">{u.written || u.symbol}, as it is</option>
                {u.to.map((c) => (
                  <option key={c.symbol} value={c.symbol}>
                    {c.written || c.symbol}
                  </option>
                ))}
              </select>
            </Field>
          ))}
      </div>
    </Modal>
  );
}
