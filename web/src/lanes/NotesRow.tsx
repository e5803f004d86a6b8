import { linkWords } from "../links/words";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Flag } from "lucide-react";
import { Popover } from "radix-ui";
import { useMemo } from "react";
import { remove, type BoardLane, type Note, type Outage } from "../api/client";
import { has, useLinkHistory, useNotes, useSession } from "../api/hooks";
import { at } from "../board/board";
import { pathWords } from "../format";
import { Link } from "../parts/Link";
import { Failed } from "../parts/Said";
import { length } from "../time/duration";
import { longTime } from "../time/format";
import { useView, xOf, type View } from "./view";

interface Props {
  lane: BoardLane;
  height: number;
  /** The places whose notes count, when the lane names none. */
  places: string[];
}

/** What people pinned to the times of the range, and when links were down. */
export function NotesRow({ lane, height, places }: Props) {
  const view = useView();
  const about = useMemo(() => {
    const named = (lane.series ?? []).map((s) => at(s, view.about)).filter((s) => s !== undefined);
    return named.length > 0 ? named : places;
  }, [lane.series, places, view.about]);
  const minute = 60_000;
  const from = new Date(Math.floor(view.span.from / minute) * minute).toISOString();
  const to = new Date(Math.ceil(view.span.end / minute) * minute).toISOString();
  const notes = useNotes({ from, to, limit: "1000" });
  const links = useLinkHistory({ from, to });
  const shown = (notes.data?.notes ?? []).filter((n) => concerns(n.about, about));
  const outages = (links.data?.links ?? [])
    .filter(
      (l) =>
        !l.link.startsWith("from ") ||
        about.length === 0 ||
        about.some((a) => a.split("/")[0] === l.link.slice(5)),
    )
    .flatMap((l) => l.outages.map((o) => ({ ...o, link: l.link })));
  return (
    <>
      <svg width={view.px} height={height} className="absolute inset-0" aria-hidden data-picture>
        <line x1={view.left} x2={view.px - view.right} y1={height - 5} y2={height - 5} stroke="var(--rule)" />
        {outages.map((o) => {
          const [x, wide] = reach(o, view);
          if (wide <= 0) return null;
          return (
            <rect
              key={o.id}
              x={x}
              y={height / 2}
              width={wide}
              height={height / 2 - 6}
              fill="url(#hatch)"
              stroke="var(--soft)"
            />
          );
        })}
      </svg>
      {together(outages, view).map(({ all, x, wide }) => {
        const [first] = all;
        if (!first) return null;
        const texts = all.map((o) => outageText(o, view));
        const short = all.length > 1 ? `↯${all.length}` : "↯";
        return (
          <Link
            key={first.id}
            to={`/links?outage=${first.id}`}
            className="target absolute truncate text-xs text-stale underline"
            style={{ left: x, top: height - 24, maxWidth: Math.max(wide, 130) }}
            label={`${all.length > 1 ? `${all.length} outages` : "Outage"}: ${texts.join(", ")}`}
          >
            {wide > 60 && all.length === 1 ? texts[0] : short}
          </Link>
        );
      })}
      {placed(shown, view).map(({ note, x, toTheLeft, wide }) => (
        <NoteFlag key={note.id} note={note} x={x} toTheLeft={toTheLeft} wide={wide} />
      ))}
    </>
  );
}

/** A note concerns a place when it is about it, about what it is a part of, or about a part of it. */
function concerns(about: string, places: string[]): boolean {
  return places.length === 0 || places.some((p) => inside(about, p) || inside(p, about));
}

const inside = (path: string, place: string) => path === place || path.startsWith(place + "/");

function reach(o: Outage, view: Parameters<typeof xOf>[0]): [x: number, wide: number] {
  const from = Math.max(view.left, xOf(view, Date.parse(o.began)));
  const to = Math.min(view.px - view.right, xOf(view, o.ended ? Date.parse(o.ended) : view.span.to));
  return [from, to < from ? 0 : Math.max(2, to - from)];
}

type LinkOutage = Outage & { link: string };

const outageText = (o: LinkOutage, view: View) =>
  `${linkWords(o.link)} down ${length((o.ended ? Date.parse(o.ended) : view.span.to) - Date.parse(o.began))}`;

const apart = 28; // px; links that begin closer are one

/** Outages in groups whose links do not lie over one another. */
function together(outages: LinkOutage[], view: View): { all: LinkOutage[]; x: number; wide: number }[] {
  const out: { all: LinkOutage[]; x: number; wide: number }[] = [];
  const seen = outages
    .map((o) => ({ o, at: reach(o, view) }))
    .filter(({ at }) => at[1] > 0)
    .sort((a, b) => a.at[0] - b.at[0]);
  for (const { o, at } of seen) {
    const last = out[out.length - 1];
    if (last && at[0] < last.x + apart) last.all.push(o);
    else out.push({ all: [o], x: at[0], wide: at[1] });
  }
  return out;
}

const flag = 20; // px of a note's flag alone
const widest = 192; // px of a note's text and flag
const leastRoom = 120; // px; with less to its right a note's text stands to its left

interface Placed {
  note: Note;
  x: number;
  toTheLeft: boolean;
  /** How wide it may be, so that no text lies over another, in px. */
  wide: number;
}

function placed(notes: Note[], view: View): Placed[] {
  const all = notes
    .map((note) => ({ note, x: xOf(view, Date.parse(note.at)) }))
    .sort((a, b) => a.x - b.x)
    .map((n) => ({ ...n, toTheLeft: view.px - view.right - n.x <= leastRoom }));
  return all.map((n, i) => {
    const other = n.toTheLeft ? all[i - 1] : all[i + 1];
    const apart = other ? Math.abs(other.x - n.x) : Infinity;
    // Two that stand towards each other share the room between them.
    const room = other && other.toTheLeft !== n.toTheLeft ? apart / 2 : apart;
    return { ...n, wide: Math.min(widest, Math.max(flag, room - 2)) };
  });
}

/** A note's flag at its time, with its text beside it. */
function NoteFlag({ note, x, toTheLeft, wide }: Placed) {
  const view = useView();
  const session = useSession();
  const client = useQueryClient();
  const away = useMutation({
    mutationFn: () => remove("notes/{note}", { note: String(note.id) }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["notes"] }),
  });
  return (
    <Popover.Root>
      <Popover.Trigger
        className="absolute top-0 flex items-center overflow-hidden gap-1 rounded-sheet px-0.5 text-xs hover:bg-paper"
        style={{
          maxWidth: wide,
          ...(toTheLeft ? { right: view.px - x - 3, flexDirection: "row-reverse" } : { left: x - 3 }),
        }}
        aria-label={`Note: ${note.text}`}
        data-note={note.id}
      >
        <Flag size={13} aria-hidden className="shrink-0" />
        <span className="truncate">{note.text}</span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          className="z-20 w-80 rounded-sheet border border-ink bg-sheet p-3 shadow-lg"
          sideOffset={4}
        >
          <p className="whitespace-pre-wrap">{note.text}</p>
          <p className="mt-2 text-sm text-soft">
            {pathWords(note.about)}, {longTime(Date.parse(note.at), view.zone)}
            {note.author && <>, by {note.author}</>}
          </p>
          {has(session.data, "operator") && (
            <button type="button" className="mt-2 text-sm underline" onClick={() => away.mutate()}>
              Delete the note
            </button>
          )}
          <Failed error={away.error} />
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
