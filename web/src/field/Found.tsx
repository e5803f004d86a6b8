import type { Scanned } from "../api/client";

/** The units that answer. */
export function UnitsFound({ found }: { found: Scanned }) {
  const units = found.units.map((u) => `${u.unit} (${u.tables.join(", ") || u.says})`);
  return (
    <p role="status" className="mt-3" data-units>
      {units.length === 0 ? "No unit answers." : `Units that answer: ${units.join("; ")}.`} {found.ended}
    </p>
  );
}

/** The registers that a unit gives. */
export function RangesFound({ found, of, table }: { found: Scanned; of: string; table: string }) {
  const ranges = found.ranges.map((r) => `${r.first} to ${r.first + r.count - 1}`);
  return (
    <p role="status" className="mt-3" data-ranges>
      {ranges.length === 0
        ? `Unit ${of} gives none of them.`
        : `Unit ${of} gives, of ${table}: ${ranges.join(", ")}.`}{" "}
      {found.ended}
    </p>
  );
}
