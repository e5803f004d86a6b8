import { useCallback, useMemo } from "react";
import type { Board } from "../api/client";
import { useCatalogue, useHealth } from "../api/hooks";
import { axesOf, margins, seriesOf } from "../lanes/axes";
import { kindOf } from "../lanes/kinds";
import { refreshEvery } from "../lanes/useRows";
import type { View } from "../lanes/view";
import { useClock } from "../live/useClock";
import { clamped, fittingWidth, isLive, spanOf } from "../time/range";
import { siteZoneOf } from "../time/site";
import { useUnits } from "../units";
import { useTime, zoneOf } from "./useTime";

const mostWindows = 400;

/** What the lanes of a board have in common, when their column is so many px wide. The view is null until the
 *  service has told what it needs. */
export function useBoardView(board: Board, about: string | undefined, px: number, scale = 1) {
  const catalogue = useCatalogue();
  const { data: health, isPending: zoneless } = useHealth();
  const units = useUnits();
  const time = useTime(board);
  const { choice, change } = time;
  const lanes = useMemo(() => board.lanes ?? [], [board.lanes]);
  const paths = useMemo(
    () =>
      catalogue ? [...new Set(lanes.flatMap((l) => seriesOf(l, catalogue, about)).map((s) => s.path))] : [],
    [lanes, catalogue, about],
  );
  const site = useMemo(() => siteZoneOf(health, paths), [health, paths]);
  const zone = zoneOf(choice.zone, site.zone);
  const live = isLive(choice.range);

  const rough = spanOf(choice.range, 0, "UTC");
  const now = useClock(
    live ? Math.min(10_000, refreshEvery(choice.width || fittingWidth(rough, mostWindows))) : 3_600_000,
  );
  const span = useMemo(() => spanOf(choice.range, now, zone), [choice.range, now, zone]);
  const width = choice.width || fittingWidth(span, px > 0 && px < 600 ? mostWindows / 2 : mostWindows);
  const axes = useMemo(
    () => (catalogue ? lanes.map((l) => axesOf(l, catalogue, units.of, about)) : []),
    [lanes, catalogue, units.of, about],
  );
  const { left, right } = margins(
    axes,
    px,
    lanes.some((l) => kindOf(l).strips),
  );
  const zoom = useCallback(
    (from: number, to: number) => change({ range: clamped(from, to) }, true),
    [change],
  );
  const collects = health?.gateway != null;
  const view = useMemo<View | null>(
    () =>
      catalogue && !zoneless // else all would be asked for twice
        ? {
            range: choice.range,
            span,
            zone,
            width,
            hours: choice.hours,
            compare: choice.compare,
            about,
            px,
            left,
            right,
            scale,
            catalogue,
            units: units.of,
            collects,
            zoom,
          }
        : null,
    [catalogue, zoneless, choice, span, zone, width, about, px, left, right, scale, units.of, collects, zoom],
  );
  return { view, span, zone, width, site, paths, lanes, health, ...time };
}
