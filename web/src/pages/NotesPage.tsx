import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { addressOf, remove } from "../api/client";
import { has, useCatalogue, useHealth, useNotes, useSession } from "../api/hooks";
import { zoneOf } from "../board/useTime";
import { count, pathWords } from "../format";
import { NoteDialog } from "../lanes/NoteDialog";
import { placesOf } from "../lanes/places";
import { button, linkButton, search } from "../parts/Field";
import { Link } from "../parts/Link";
import { Failed } from "../parts/Said";
import { Sure } from "../parts/Sure";
import { cell, row, Table } from "../parts/Table";
import { Nothing, PageWaiting } from "../parts/Waiting";
import { usePreferences } from "../preferences";
import { longTime } from "../time/format";
import { serviceNow } from "../time/clock";

const most = 500;
const around = 6 * 3_600_000; // what is shown before and after a note

/** What people pinned to times and places. */
export function NotesPage() {
  const [text, setText] = useState("");
  const [adding, setAdding] = useState<number | null>(null);
  const query = { limit: String(most), ...(text.trim() && { text: text.trim() }) };
  const notes = useNotes(query);
  const client = useQueryClient();
  const catalogue = useCatalogue();
  const mayChange = has(useSession().data, "operator");
  const zone = zoneOf(usePreferences().zone, useHealth().data?.zone ?? "UTC");
  const places = useMemo(
    () => placesOf([...(catalogue?.keys() ?? [])].filter((p) => !p.endsWith("/quality"))).sort(),
    [catalogue],
  );
  const away = useMutation({
    mutationFn: (id: number) => remove("notes/{note}", { note: String(id) }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["notes"] }),
  });
  const all = notes.data?.notes ?? [];
  return (
    <>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-2xl font-semibold">Notes</h1>
        <input
          type="search"
          aria-label="Show only notes with these words"
          placeholder="Show only, such as probe"
          value={text}
          onChange={(e) => setText(e.target.value)}
          className={search}
        />
        {mayChange && places.length > 0 && (
          <button type="button" className={button} onClick={() => setAdding(serviceNow())}>
            Pin a note
          </button>
        )}
        <a
          href={addressOf("notes", { ...query, limit: "1000", format: "csv" })}
          download="notes.csv"
          className={linkButton}
        >
          Download as CSV
        </a>
      </div>
      <Failed error={notes.error ?? away.error} />
      {notes.isPending && <PageWaiting>Loading the notes …</PageWaiting>}
      {notes.data && all.length === 0 && (
        <Nothing>
          {text
            ? "No note has all these words."
            : "Nobody has pinned a note yet. On a trend, click into the lane of notes, or press n on the time axis."}
        </Nothing>
      )}
      {all.length > 0 && (
        <Table head={["when", "about", "note", "by", ""]}>
          {all.map((n) => {
            const at = Date.parse(n.at);
            const [from, to] = [at - around, at + around].map((t) => new Date(t).toISOString()) as [
              string,
              string,
            ];
            const leads = catalogue?.has(n.about)
              ? `/trends?${new URLSearchParams({ series: n.about, from, to })}`
              : `/boards/place?${new URLSearchParams({ about: n.about, from, to })}`;
            return (
              <tr key={n.id} className={row} data-note={n.id}>
                <td className={`${cell} whitespace-nowrap`}>
                  <Link
                    to={leads}
                    className="underline decoration-rule underline-offset-4 hover:decoration-water"
                  >
                    {longTime(at, zone)}
                  </Link>
                </td>
                <td className={cell}>{pathWords(n.about)}</td>
                <td className={`${cell} whitespace-pre-wrap`}>{n.text}</td>
                <td className={`${cell} text-soft`}>{n.author}</td>
                <td className={cell}>
                  {mayChange && (
                    <Sure
                      name="Delete note"
                      question={`“${n.text}” goes; the audit keeps its text.`}
                      onYes={() => away.mutate(n.id)}
                      className="text-soft underline"
                    />
                  )}
                </td>
              </tr>
            );
          })}
        </Table>
      )}
      {all.length >= most && (
        <p className="mt-2 text-sm text-soft">
          Only the newest {count(most)} notes are listed; search for words to see others.
        </p>
      )}
      {adding !== null && (
        <NoteDialog at={adding} zone={zone} places={places} onClose={() => setAdding(null)} />
      )}
    </>
  );
}
