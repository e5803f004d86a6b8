import { useQuery } from "@tanstack/react-query";
import { useMemo, useState, type KeyboardEvent } from "react";
import { Dialog } from "radix-ui";
import { useNavigate } from "react-router";
import { count } from "../format";
import { ask, type Session } from "../api/client";
import { useSeries } from "../api/hooks";
import type { Page } from "../routes";
import { aroundOpened } from "./open";

interface Entry {
  name: string;
  sort: string;
  act: () => void;
}

interface Props {
  session: Session;
  pages: Page[];
  onClose: () => void;
}

const most = 50;

/** Finds any series, board, page or action by some of its letters. */
export default function Palette({ pages, onClose }: Props) {
  const navigate = useNavigate();
  const series = useSeries().data?.series;
  const boards = useQuery({
    queryKey: ["boards", ""],
    queryFn: () => ask("boards"),
  }).data?.boards;
  const manual = useQuery({ queryKey: ["manual"], queryFn: () => ask("manual"), staleTime: Infinity }).data
    ?.pages;
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const all = useMemo(() => {
    const go = (to: string) => () => void navigate(to);
    const out: Entry[] = pages
      .filter((p) => !p.at.includes(":") && p.at !== "/series")
      .map((p) => ({ name: p.name, sort: "page", act: go(p.at) }));
    out.push(
      { name: "Help for this page", sort: "action", act: () => aroundOpened.tell("help") },
      { name: "Units and clocks", sort: "action", act: () => aroundOpened.tell("preferences") },
      { name: "Print this page", sort: "action", act: () => print() },
      { name: "Picture of this page as PNG", sort: "action", act: () => void pictureOf("png") },
      { name: "Picture of this page as SVG", sort: "action", act: () => void pictureOf("svg") },
      {
        name: "Copy the link to exactly this",
        sort: "action",
        act: () => void navigator.clipboard?.writeText(location.href),
      },
    );
    for (const b of boards ?? [])
      out.push({
        name: b.title,
        sort: "board",
        act: go(b.standard ? `/boards/place?about=${encodeURIComponent(b.about)}` : `/boards/${b.id}`),
      });
    for (const p of manual ?? []) {
      if (p.name !== "README") out.push({ name: p.title, sort: "manual", act: go(`/docs/${p.name}`) });
      for (const h of p.headings)
        out.push({ name: `${p.title}: ${h.text}`, sort: "manual", act: go(`/docs/${p.name}#${h.id}`) });
    }
    for (const s of series ?? []) {
      if (s.path.endsWith("/quality")) continue;
      out.push({ name: s.path, sort: "series", act: go(`/series?path=${encodeURIComponent(s.path)}`) });
    }
    return out;
  }, [boards, manual, navigate, pages, series]);
  const matching = useMemo(() => {
    const wanted = text.trim().toLowerCase().split(/\s+/);
    return all.filter((e) => wanted.every((w) => `${e.name} ${e.sort}`.toLowerCase().includes(w)));
  }, [all, text]);
  const found = matching.slice(0, most);
  const chosen = Math.min(at, found.length - 1);
  const take = (e: Entry | undefined) => {
    if (!e) return;
    onClose();
    e.act();
  };
  const press = (e: KeyboardEvent) => {
    if (e.key === "ArrowDown") setAt(Math.min(found.length - 1, chosen + 1));
    else if (e.key === "ArrowUp") setAt(Math.max(0, chosen - 1));
    else if (e.key === "Enter") take(found[chosen]);
    else return;
    e.preventDefault();
  };
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-ink/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[12vh] left-1/2 z-40 w-[min(36rem,94vw)] -translate-x-1/2 rounded-sheet border border-ink bg-paper p-2"
        >
          <Dialog.Title className="sr-only">Find a series, a board, a page or an action</Dialog.Title>
          <input
            role="combobox"
            aria-expanded="true"
            aria-controls="palette-list"
            aria-activedescendant={found[chosen] ? `palette-${chosen}` : undefined}
            aria-label="Find a series, a board, a page or an action"
            placeholder="A series, a board, a page, an action"
            value={text}
            onChange={(e) => {
              setText(e.target.value);
              setAt(0);
            }}
            onKeyDown={press}
            className="h-10 w-full rounded-sheet border border-rule bg-sheet px-3"
          />
          <ul
            role="listbox"
            id="palette-list"
            aria-label="Found"
            className="mt-2 max-h-[50vh] overflow-y-auto"
          >
            {found.map((e, i) => (
              <li
                key={`${e.sort} ${e.name}`}
                id={`palette-${i}`}
                role="option"
                aria-selected={i === chosen}
                ref={i === chosen ? (li) => li?.scrollIntoView({ block: "nearest" }) : undefined}
                onPointerMove={() => setAt(i)}
                onClick={() => take(e)}
                className="flex cursor-pointer gap-3 rounded-sheet px-3 py-1 aria-selected:bg-ink aria-selected:text-paper"
              >
                <span className="min-w-0 truncate">{e.name}</span>
                <span className="ml-auto text-sm opacity-80">{e.sort}</span>
              </li>
            ))}
          </ul>
          {found.length === 0 && <p className="px-3 py-2 text-soft">Nothing contains that.</p>}
          {matching.length > found.length && (
            <p className="px-3 py-2 text-sm text-soft">
              {count(matching.length - found.length)} more; type more words to narrow the list down.
            </p>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

async function pictureOf(form: "png" | "svg") {
  const { savePicture } = await import("../picture/picture");
  await savePicture(form, document.title || "page");
}
