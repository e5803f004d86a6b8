import { useEffect, useMemo, type ReactNode } from "react";
import type { Board } from "../api/client";
import { useCatalogue } from "../api/hooks";
import { useBoardView } from "../board/useBoardView";
import { headsOf, WallHead } from "../head/Head";
import { seriesOf } from "../lanes/axes";
import { Lane } from "../lanes/Lane";
import { TimeAxis } from "../lanes/TimeAxis";
import { ViewContext } from "../lanes/view";
import { PageWaiting } from "../parts/Waiting";
import { spoken } from "../time/duration";
import { zoneText } from "../time/zone";
import { around, fit, high, type Fit } from "./fit";
import { useScreen } from "./useScreen";

interface Props {
  board: Board;
  about?: string;
  /** The page that is shown, from 0. */
  page: number;
  /** Told how many pages the board has on this screen. */
  onPages: (pages: number) => void;
  /** What stands above the board. */
  children: ReactNode;
}

/** A board that fills the screen: lanes are as high as there is room, and what would be too low to read has
 *  pages of its own. */
export function WallBoard({ board, about, page, onPages, children }: Props) {
  const catalogue = useCatalogue();
  const screen = useScreen();
  const fitted = useMemo(() => {
    if (!catalogue) return undefined;
    const lanes = [...(board.lanes ?? [])];
    if (lanes.length > 0 && !lanes.some((l) => l.kind === "notes")) lanes.push({ kind: "notes" });
    const wanted = lanes.map((lane) => ({
      lane,
      paths: seriesOf(lane, catalogue, about).map((s) => s.path),
    }));
    return fit(screen, headsOf(board.head ?? [], catalogue, about).length, wanted);
  }, [board, about, catalogue, screen]);
  const count = Math.max(1, fitted?.pages.length ?? 1);
  useEffect(() => onPages(count), [count, onPages]);
  if (!fitted) return <PageWaiting>Loading the list of series …</PageWaiting>;
  return (
    <div
      className="overflow-hidden"
      style={{
        zoom: fitted.scale,
        padding: around,
        width: fitted.width + 2 * around,
        height: fitted.height + 2 * around,
      }}
    >
      {children}
      <Page board={board} about={about} fitted={fitted} page={Math.min(page, count - 1)} />
    </div>
  );
}

/** How wide the figures beside the lanes are, in px before scaling. */
const legendWide = (width: number) => (width < 700 ? 0 : Math.min(300, Math.round(width * 0.27)));

interface PageProps {
  board: Board;
  about?: string;
  fitted: Fit;
  page: number;
}

function Page({ board, about, fitted, page }: PageProps) {
  const legend = legendWide(fitted.width);
  const { view, site, paths, health } = useBoardView(board, about, fitted.width - legend - 2, fitted.scale);
  const places = useMemo(() => [...new Set(paths.map((p) => p.slice(0, p.lastIndexOf("/"))))], [paths]);
  const onWall = useMemo(() => view && { ...view, wall: { legend } }, [view, legend]);
  const shown = fitted.pages[page];
  if (!view) return <PageWaiting>Loading the list of series …</PageWaiting>;
  if (!shown) return <p className="mt-8">This board is empty: it has no lanes and no present values.</p>;
  return (
    <ViewContext.Provider value={onWall ?? view}>
      <div className="border border-b-0 border-rule">
        <WallHead head={board.head ?? []} from={shown.heads[0]} to={shown.heads[1]} />
        {shown.lanes.length > 0 && (
          <div style={{ width: view.px }}>
            <TimeAxis onRange={() => undefined} />
          </div>
        )}
        {shown.lanes.map((lane, i) => (
          <div
            key={`${page} ${i}`}
            className="overflow-hidden"
            style={{ height: (lane.height ?? 0) + high.title }}
          >
            <Lane lane={lane} index={i} count={shown.lanes.length} places={places} />
          </div>
        ))}
      </div>
      <p className="truncate text-xs text-soft" style={{ height: high.foot, paddingTop: 3 }} data-says>
        {zoneText(view.zone, view.span.to)} · {spoken(view.width)} windows
        {view.hours && ` · only ${view.hours}`}
        {view.compare && ` · beside the same ${spoken(view.compare)} earlier`} · {health?.site ?? ""}
        {fitted.pages.length > 1 &&
          ` · on ${fitted.pages.length} pages, as everything at once would be too small to read`}
        {site.differ && " · not all sites of this board use this zone"}
      </p>
    </ViewContext.Provider>
  );
}
