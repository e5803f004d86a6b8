import { fileName } from "../picture/save";
import { Ellipsis } from "lucide-react";
import { DropdownMenu as Menu } from "radix-ui";
import { Fragment, lazy, Suspense, useState } from "react";
import { addressOf, type BoardLane } from "../api/client";
import { heightOf, highest, kindOf, lowest } from "./kinds";
import { savePicture } from "../picture/picture";
import { Check, item, Rule } from "../parts/menu";
import { seriesOf } from "./axes";
import { DrawingItems } from "./DrawingItems";
import type { Row } from "./rows";
import { paramsOf, questionsOf, type Question } from "./questions";
import { useView } from "./view";

const WindowsTable = lazy(() => import("./WindowsTable"));
const CalculateDialog = lazy(() => import("./CalculateDialog"));
const TextDialog = lazy(() => import("./TextDialog"));

interface Props {
  lane: BoardLane;
  title: string;
  index: number;
  count: number;
  rows?: Row[];
  rejects?: { shown: boolean; show: (shown: boolean) => void };
  onChange?: (lane: BoardLane) => void;
  onMove?: (to: number) => void;
  onRemove?: () => void;
  onNote?: (ms: number, series: string[]) => void;
}

/** What can be done with a lane. */
export function LaneMenu(props: Props) {
  const { lane, title, index, count, rows, rejects, onChange, onMove, onRemove, onNote } = props;
  const view = useView();
  const [open, setOpen] = useState<"table" | "calculate" | "text" | null>(null);
  const set = (change: Partial<BoardLane>) => onChange?.({ ...lane, ...change });
  const high = heightOf(lane, rows?.filter((r) => !r.shift).length);
  const questions = rows ? questionsOf(lane, view) : [];
  return (
    <>
      <Menu.Root>
        <Menu.Trigger
          aria-label={`Lane ${title || lane.kind}: more`}
          className="target rounded-sheet px-1 text-soft hover:bg-paper print:hidden"
        >
          <Ellipsis size={16} aria-hidden className="inline" />
        </Menu.Trigger>
        <Menu.Portal>
          <Menu.Content
            align="end"
            className="z-20 max-h-[80vh] min-w-56 overflow-y-auto rounded-sheet border border-ink bg-sheet p-1 shadow-lg"
          >
            {rows && (
              <>
                <Menu.Item className={item} onSelect={() => setOpen("table")}>
                  Windows as a table
                </Menu.Item>
                {questions.map((q, i) => (
                  <Fragment key={i}>
                    <Menu.Item className={item} asChild>
                      <a
                        href={addressOf("windows", formOf(paramsOf(q, view.span), "csv"))}
                        download={`${fileName(title)}-${i + 1}.csv`}
                      >
                        Download as CSV{questions.length > 1 && `: ${nameOf(q)}`}
                      </a>
                    </Menu.Item>
                    <Menu.Item className={item} asChild>
                      <a
                        href={addressOf("windows", formOf(paramsOf(shortly(q), view.span), "wide"))}
                        download={`${fileName(title)}-${i + 1}-wide.csv`}
                      >
                        Download as wide CSV{questions.length > 1 && `: ${nameOf(q)}`}
                      </a>
                    </Menu.Item>
                  </Fragment>
                ))}
                <Menu.Item className={item} onSelect={() => void savePicture("svg", fileName(title), index)}>
                  Picture as SVG
                </Menu.Item>
                <Menu.Item className={item} onSelect={() => void savePicture("png", fileName(title), index)}>
                  Picture as PNG
                </Menu.Item>
              </>
            )}
            {lane.kind === "notes" && (
              <Menu.Item className={item} asChild>
                <a
                  href={addressOf("notes", {
                    from: new Date(view.span.from).toISOString(),
                    to: new Date(view.span.end).toISOString(),
                    limit: "1000",
                    format: "csv",
                  })}
                  download="notes.csv"
                >
                  Download as CSV
                </a>
              </Menu.Item>
            )}
            {onNote && (
              <Menu.Item
                className={item}
                onSelect={() =>
                  onNote(
                    view.span.to,
                    seriesOf(lane, view.catalogue, view.about).map((s) => s.path),
                  )
                }
              >
                Pin a note …
              </Menu.Item>
            )}
            {rejects && (
              <Check on={rejects.shown} onChange={rejects.show}>
                Rejects in the chart
              </Check>
            )}
            {onChange && kindOf(lane).detailed && (
              <DrawingItems lane={lane} set={set} onCalculate={() => setOpen("calculate")} />
            )}
            {onChange && lane.kind === "text" && (
              <Menu.Item className={item} onSelect={() => setOpen("text")}>
                Write …
              </Menu.Item>
            )}
            {onChange && (
              <>
                <Rule />
                <Menu.Item
                  className={item}
                  onSelect={() => set({ height: Math.min(highest, Math.round(high * 1.3)) })}
                >
                  Higher
                </Menu.Item>
                <Menu.Item
                  className={item}
                  onSelect={() => set({ height: Math.max(lowest, Math.round(high / 1.3)) })}
                >
                  Lower
                </Menu.Item>
              </>
            )}
            {onMove && (
              <>
                <Menu.Item className={item} disabled={index === 0} onSelect={() => onMove(index - 1)}>
                  Move up
                </Menu.Item>
                <Menu.Item className={item} disabled={index >= count - 1} onSelect={() => onMove(index + 1)}>
                  Move down
                </Menu.Item>
              </>
            )}
            {onRemove && (
              <Menu.Item className={item} onSelect={onRemove}>
                Remove the lane
              </Menu.Item>
            )}
          </Menu.Content>
        </Menu.Portal>
      </Menu.Root>
      <Suspense>
        {open === "table" && rows && <WindowsTable title={title} rows={rows} onClose={() => setOpen(null)} />}
        {open === "calculate" && (
          <CalculateDialog lane={lane} onChange={(l) => onChange?.(l)} onClose={() => setOpen(null)} />
        )}
        {open === "text" && (
          <TextDialog lane={lane} onChange={(l) => onChange?.(l)} onClose={() => setOpen(null)} />
        )}
      </Suspense>
    </>
  );
}

function formOf(params: URLSearchParams, format: string): URLSearchParams {
  params.set("format", format);
  return params;
}

/** A question without the stats that only the lane itself needs, as each is a column. */
function shortly(q: Question): Question {
  if (typeof q.stats !== "string") return q;
  const needed = q.stats.split(",").filter((s) => !/^(last|count|restarts|changes)$|_at$/.test(s));
  return { ...q, stats: needed.join(",") };
}

const nameOf = (q: Record<string, string | string[]>) => [q.select ?? q.calc ?? []].flat().join(", ");
