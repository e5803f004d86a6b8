import { useMemo, type ReactNode } from "react";
import type { BoardLane } from "../api/client";
import { Bars } from "./Bars";
import { Chart } from "./Chart";
import type { Normal } from "./chartOptions";
import type { Kind } from "./kinds";
import { linesOf } from "./lines";
import type { Row } from "./rows";
import { CoverageRows, Strips } from "./Strips";
import { useView } from "./view";

interface Props {
  lane: BoardLane;
  rows: Row[];
  axes: string[];
  height: number;
  single: string | null;
  normal?: Normal;
}

function Lines({ lane, rows, axes, height, single, normal }: Props) {
  const view = useView();
  const lines = useMemo(() => linesOf(lane, rows, axes, view), [lane, rows, axes, view]);
  return <Chart lane={lane} lines={lines} axes={axes} height={height} single={single} normal={normal} />;
}

/** How each kind draws the rows of its series; lines, where nothing is said. */
const drawings: Partial<Record<Kind, (props: Props) => ReactNode>> = {
  states: ({ rows, height, single }) => (
    <Strips rows={rows.filter((r) => !r.shift)} height={height} single={single} />
  ),
  coverage: ({ rows, height, single }) => <CoverageRows rows={rows} height={height} single={single} />,
  growth: ({ rows, axes, height, single }) => (
    <Bars rows={rows} unit={axes[0] ?? ""} height={height} single={single} />
  ),
};

/** What the windows of a lane look like. */
export function Drawn(props: Props) {
  const Drawing = drawings[props.lane.kind] ?? Lines;
  return <Drawing {...props} />;
}
