import { useState } from "react";
import type { Reject } from "../api/client";
import { preview } from "../field/preview";
import { count } from "../format";
import { cell, row } from "../parts/Table";
import { longTime } from "../time/format";
import type { Group } from "./groups";

interface Props {
  group: Group;
  zone: string;
  onOpen: (id: number) => void;
}

export const columns = [
  ">newest",
  ">count",
  "first",
  "last",
  "source and place",
  "rule",
  "why",
  "what arrived",
];

/** Rejects that are alike as one row, with each of them below on request. */
export function GroupRows({ group, zone, onOpen }: Props) {
  const [all, setAll] = useState(false);
  const [newest] = group.rejects;
  return (
    <>
      <RejectRow
        reject={newest}
        first={group.rejects.at(-1) ?? newest}
        zone={zone}
        onOpen={onOpen}
        count={
          group.rejects.length === 1 ? (
            "1"
          ) : (
            <button type="button" className="underline" aria-expanded={all} onClick={() => setAll(!all)}>
              {count(group.rejects.length)}
            </button>
          )
        }
      />
      {all &&
        group.rejects
          .slice(1)
          .map((r) => <RejectRow key={r.id} reject={r} first={r} zone={zone} onOpen={onOpen} count="" />)}
    </>
  );
}

interface RowProps {
  reject: Reject;
  first: Reject;
  count: React.ReactNode;
  zone: string;
  onOpen: (id: number) => void;
}

function RejectRow({ reject: r, first, count, zone, onOpen }: RowProps) {
  const at = (text: string) => longTime(Date.parse(text), zone, true);
  return (
    <tr className={row} data-reject={r.id}>
      <td className={`${cell} text-right`}>
        <button
          type="button"
          className="underline"
          aria-label={`Open reject ${r.id}`}
          onClick={() => onOpen(r.id)}
        >
          {r.id}
        </button>
      </td>
      <td className={`${cell} text-right`}>{count}</td>
      <td className={`${cell} whitespace-nowrap`}>{first === r ? "" : at(first.time)}</td>
      <td className={`${cell} whitespace-nowrap`}>{at(r.time)}</td>
      <td className={cell}>
        {r.source}: {r.place}
      </td>
      <td className={cell}>{r.rule}</td>
      <td className={cell}>
        {r.replayed_at && (
          <span className="text-good">
            counts since {longTime(Date.parse(r.replayed_at), zone)}; it was:{" "}
          </span>
        )}
        {r.reason}
      </td>
      <td className={`${cell} max-w-48 truncate text-soft`}>{preview(r.raw)}</td>
    </tr>
  );
}
