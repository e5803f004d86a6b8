import {
  createColumnHelper,
  flexRender,
  getCoreRowModel,
  getSortedRowModel,
  useReactTable,
  type SortingState,
} from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { number } from "../format";
import { Modal } from "../parts/Modal";
import { longTime } from "../time/format";
import { zoneText } from "../time/zone";
import type { Row } from "./rows";
import { useView } from "./view";

interface Props {
  title: string;
  rows: Row[];
  onClose: () => void;
}

interface Line {
  name: string;
  start: number;
  values: Record<string, number | null>;
  note: string;
}

const column = createColumnHelper<Line>();
const high = 26;

/** The windows behind a lane. */
export default function WindowsTable({ title, rows, onClose }: Props) {
  const view = useView();
  const [sorting, setSorting] = useState<SortingState>([]);
  const stats = useMemo(() => [...new Set(rows.flatMap((r) => Object.keys(r.values)))], [rows]);
  const data = useMemo(
    () =>
      rows.flatMap((r) =>
        r.starts.map((start, i): Line => ({
          name: r.key,
          start: r.shift ? NaN : start,
          values: Object.fromEntries(stats.map((s) => [s, r.values[s]?.[i] ?? null])),
          note: r.empty[i] ? "no data" : r.open[i] ? "still open" : "",
        })),
      ),
    [rows, stats],
  );
  const columns = useMemo(
    () => [
      column.accessor("name", { header: "Series" }),
      column.accessor("start", {
        header: `Start, ${zoneText(view.zone, view.span.from)}`,
        cell: (c) => (Number.isNaN(c.getValue()) ? "earlier" : longTime(c.getValue(), view.zone, true)),
      }),
      ...stats.map((s) =>
        column.accessor((line) => line.values[s] ?? null, {
          id: s,
          header: s,
          cell: (c) => number(c.getValue(), 6),
          sortUndefined: "last",
        }),
      ),
      column.accessor("note", { header: "" }),
    ],
    [stats, view.span.from, view.zone],
  );
  // eslint-disable-next-line react-hooks/incompatible-library -- nothing below is memoised
  const table = useReactTable({
    data,
    columns,
    state: { sorting },
    onSortingChange: setSorting,
    getCoreRowModel: getCoreRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
  const sorted = table.getRowModel().rows;
  const box = useRef<HTMLDivElement>(null);
  const seen = useVirtualizer({
    count: sorted.length,
    getScrollElement: () => box.current,
    estimateSize: () => high,
    overscan: 10,
  });
  const items = seen.getVirtualItems();
  const above = items[0]?.start ?? 0;
  const below = seen.getTotalSize() - (items[items.length - 1]?.end ?? 0);
  return (
    <Modal title={`${title}: windows`} onClose={onClose} wide>
      <div ref={box} className="h-[64vh] overflow-auto" tabIndex={0} aria-label="Windows" role="region">
        <table className="w-full border-separate border-spacing-0 text-sm" aria-rowcount={sorted.length}>
          <thead>
            {table.getHeaderGroups().map((group) => (
              <tr key={group.id}>
                {group.headers.map((h) => {
                  const way = h.column.getIsSorted();
                  return (
                    <th
                      key={h.id}
                      scope="col"
                      aria-sort={way === "asc" ? "ascending" : way === "desc" ? "descending" : "none"}
                      className="sticky top-0 border-b border-rule bg-paper px-2 text-left font-normal whitespace-nowrap text-soft"
                    >
                      {h.column.columnDef.header === "" ? (
                        <span className="sr-only">Remarks</span>
                      ) : (
                        <button type="button" onClick={h.column.getToggleSortingHandler()}>
                          {flexRender(h.column.columnDef.header, h.getContext())}
                          {way === "asc" ? " ↑" : way === "desc" ? " ↓" : ""}
                        </button>
                      )}
                    </th>
                  );
                })}
              </tr>
            ))}
          </thead>
          <tbody>
            {above > 0 && (
              <tr aria-hidden>
                <td style={{ height: above }} />
              </tr>
            )}
            {items.map((item) => {
              const line = sorted[item.index];
              return (
                line && (
                  <tr key={line.id} style={{ height: high }}>
                    {line.getVisibleCells().map((cell, i) => (
                      <td key={cell.id} className={`px-2 whitespace-nowrap ${i > 1 ? "text-right" : ""}`}>
                        {flexRender(cell.column.columnDef.cell, cell.getContext())}
                      </td>
                    ))}
                  </tr>
                )
              );
            })}
            {below > 0 && (
              <tr aria-hidden>
                <td style={{ height: below }} />
              </tr>
            )}
          </tbody>
        </table>
      </div>
    </Modal>
  );
}
