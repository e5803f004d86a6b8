import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { send } from "../api/client";
import { pathWords } from "../format";
import { button, entry, Field, mainButton } from "../parts/Field";
import { Modal } from "../parts/Modal";
import { Failed } from "../parts/Said";
import { localText, readLocal } from "../time/local";
import { zoneText } from "../time/zone";

interface Props {
  /** The time that it is first for. */
  at: number;
  zone: string;
  /** Sites, stations and series that it may be about, the likeliest first. */
  places: string[];
  onClose: () => void;
}

/** Pins a note to a time and a place. */
export function NoteDialog({ at, zone, places, onClose }: Props) {
  const client = useQueryClient();
  const [time, setTime] = useState(localText(at, zone));
  const [about, setAbout] = useState(places[0] ?? "");
  const [text, setText] = useState("");
  const pin = useMutation({
    mutationFn: () => send("notes", { at: new Date(readLocal(time, zone)).toISOString(), about, text }),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: ["notes"] });
      onClose();
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    pin.mutate();
  };
  return (
    <Modal title="Pin a note" onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <Field label="What is to be known" hint="Such as: probe cleaned">
          <textarea
            name="note"
            required
            maxLength={2000}
            rows={3}
            value={text}
            onChange={(e) => setText(e.target.value)}
            className="rounded-sheet border border-rule bg-sheet px-2 py-1"
          />
        </Field>
        <Field label={`When, by the clocks of ${zoneText(zone, at)}`}>
          <input
            type="datetime-local"
            name="time"
            step={1}
            required
            value={time}
            onChange={(e) => setTime(e.target.value)}
            className={entry}
          />
        </Field>
        <Field label="About">
          <select name="about" value={about} onChange={(e) => setAbout(e.target.value)} className={entry}>
            {places.map((p) => (
              <option key={p} value={p}>
                {pathWords(p)}
              </option>
            ))}
          </select>
        </Field>
        <Failed error={pin.error} />
        <div className="flex justify-end gap-2">
          <button type="button" className={button} onClick={onClose}>
            Cancel
          </button>
          <button type="submit" className={mainButton} disabled={pin.isPending || !text.trim() || !time}>
            Pin
          </button>
        </div>
      </form>
    </Modal>
  );
}
