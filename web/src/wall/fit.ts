import type { BoardLane } from "../api/client";
import { heightOf, kindOf } from "../lanes/kinds";
import { aStrip } from "../lanes/kinds/strips";

/** A lane and the paths of the series it shows. */
export interface Wanted {
  lane: BoardLane;
  paths: string[];
}

/** One screenful of a board: present values heads[0] to heads[1], and lanes with their heights. */
export interface WallPage {
  heads: [from: number, to: number];
  lanes: BoardLane[];
}

/** How a board stands on a screen. Width and height are in px before scaling. */
export interface Fit {
  scale: number;
  width: number;
  height: number;
  pages: WallPage[];
}

/** Heights of what stands around the plots, in px before scaling. WallBoard gives them to the elements. */
export const high = { bar: 44, axis: 40, foot: 22, head: 120, title: 26 };
/** The width of a present value, and the space around everything. */
export const headWide = 232;
export const around = 10;

const smallest = { width: 1280, height: 800 };
const scales = [1.5, 1.35, 1.2, 1.1, 1];
const paged = 1.2;
const headShare = 0.4;

/** How a board fits a screen: as large as all of it can be legible on one page, else on several pages. */
export function fit(screen: { width: number; height: number }, heads: number, lanes: Wanted[]): Fit {
  const base = Math.max(1, Math.min(screen.width / smallest.width, screen.height / smallest.height));
  for (const s of scales) {
    const found = fitAt(screen, base * s, heads, lanes);
    if (found.pages.length <= 1) return found;
  }
  return fitAt(screen, base * paged, heads, lanes);
}

function fitAt(
  screen: { width: number; height: number },
  scale: number,
  heads: number,
  lanes: Wanted[],
): Fit {
  const width = screen.width / scale - 2 * around;
  const height = screen.height / scale - 2 * around;
  const room = height - high.bar - high.axis - high.foot;
  const aRow = Math.max(1, Math.floor(width / headWide));
  const headHeight = Math.ceil(heads / aRow) * high.head;
  const above = headHeight <= headShare * room;
  const groups = packed(parted(lanes, room), above ? room - headHeight : room);
  const pages: WallPage[] = groups.map((group) => ({ heads: [0, above ? heads : 0], lanes: group }));
  if (heads > 0 && (!above || pages.length === 0)) {
    const most = aRow * Math.max(1, Math.floor((room + high.axis) / high.head));
    const own: WallPage[] = [];
    for (let i = 0; i < heads; i += most) own.push({ heads: [i, Math.min(heads, i + most)], lanes: [] });
    pages.unshift(...own);
  }
  return { scale, width, height, pages };
}

const onWall = ({ lane, paths }: Wanted) => kindOf(lane).onWall(paths.length, lane);

/** The least height at which a lane's plot can be read across a room. */
export const leastOf = (wanted: Wanted) => onWall(wanted).least;

/** Lanes whose rows do not fit a page become several. */
function parted(lanes: Wanted[], room: number): Wanted[] {
  const most = Math.max(1, Math.floor((room - high.title - 8) / aStrip.least));
  return lanes.flatMap((wanted) => {
    const { lane, paths } = wanted;
    if (!kindOf(lane).strips || paths.length <= most) return [wanted];
    const parts = Math.ceil(paths.length / most);
    const each = Math.ceil(paths.length / parts);
    return Array.from({ length: parts }, (_, i) => {
      const series = paths.slice(i * each, (i + 1) * each);
      return { lane: { ...lane, series }, paths: series };
    });
  });
}

const needs = (wanted: Wanted) => leastOf(wanted) + high.title;

/** As few pages as hold all lanes in their order, about equally full, with the heights of the plots. */
function packed(lanes: Wanted[], room: number): BoardLane[][] {
  if (lanes.length === 0) return [];
  const pages = grouped(lanes, room).length;
  let [low, enough] = [Math.max(...lanes.map(needs)), room];
  while (enough - low > 4) {
    const middle = (low + enough) / 2;
    if (grouped(lanes, middle).length <= pages) enough = middle;
    else low = middle;
  }
  return grouped(lanes, Math.max(low, enough)).map((group) => spread(group, room));
}

function grouped(lanes: Wanted[], room: number): Wanted[][] {
  const out: Wanted[][] = [];
  let left = -1;
  for (const wanted of lanes) {
    const last = out[out.length - 1];
    if (last && needs(wanted) <= left) {
      last.push(wanted);
      left -= needs(wanted);
    } else {
      out.push([wanted]);
      left = room - needs(wanted);
    }
  }
  return out;
}

/** Lanes with heights that fill the room: each gets its least, and a share of the rest in proportion to the
 *  height it has on its board. */
function spread(group: Wanted[], room: number): BoardLane[] {
  const slots = group.map((w) => ({
    lane: w.lane,
    height: Math.min(leastOf(w), Math.max(40, room - high.title)),
    most: onWall(w).most,
    weight: heightOf(w.lane, w.paths.length),
  }));
  let rest = room - slots.reduce((n, s) => n + s.height + high.title, 0);
  let open = slots;
  while (rest >= 1 && open.length > 0) {
    const each = rest / open.reduce((n, s) => n + s.weight, 0);
    for (const s of open) {
      const gains = Math.max(0, Math.min(each * s.weight, s.most - s.height));
      s.height += gains;
      rest -= gains;
    }
    open = open.filter((s) => s.height < s.most);
  }
  return slots.map((s) => ({ ...s.lane, height: Math.floor(s.height) }));
}
