import { useState, type FormEvent } from "react";
import type { BoardLane } from "../api/client";
import { Field, mainButton } from "../parts/Field";
import { Modal } from "../parts/Modal";

interface Props {
  lane: BoardLane;
  onChange: (lane: BoardLane) => void;
  onClose: () => void;
}

/** The words of a text lane. */
export default function TextDialog({ lane, onChange, onClose }: Props) {
  const [text, setText] = useState(lane.text ?? "");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    onChange({ ...lane, text });
    onClose();
  };
  return (
    <Modal title="Text" onClose={onClose}>
      <form onSubmit={submit} className="flex flex-col gap-3">
        <Field
          label="Words"
          hint="A link is [its words](its address), such as [raceway 4](/boards/place?about=stony-beck/raceway-4)"
        >
          <textarea
            name="text"
            required
            rows={6}
            maxLength={5000}
            value={text}
            onChange={(e) => setText(e.target.value)}
            className="rounded-sheet border border-rule bg-sheet px-2 py-1"
          />
        </Field>
        <button type="submit" className={`${mainButton} self-end`} disabled={!text.trim()}>
          Save
        </button>
      </form>
    </Modal>
  );
}
