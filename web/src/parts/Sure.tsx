import { AlertDialog } from "radix-ui";
import { button, mainButton } from "./Field";

interface Props {
  /** What the button says. */
  name: string;
  /** What is asked before it is done. */
  question: string;
  onYes: () => void;
  className: string;
}

/** A button for what cannot be taken back; it asks first. */
export function Sure({ name, question, onYes, className }: Props) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger className={className}>{name}</AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-ink/40" />
        <AlertDialog.Content className="fixed top-1/3 left-1/2 w-[min(28rem,90vw)] -translate-x-1/2 rounded-sheet border border-ink bg-paper p-4">
          <AlertDialog.Title className="text-lg font-semibold">{name}?</AlertDialog.Title>
          <AlertDialog.Description className="mt-2">{question}</AlertDialog.Description>
          <div className="mt-4 flex justify-end gap-2">
            <AlertDialog.Cancel className={button}>Cancel</AlertDialog.Cancel>
            <AlertDialog.Action className={mainButton} onClick={onYes}>
              {name}
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
