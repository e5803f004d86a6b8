import { X } from "lucide-react";
import { Dialog } from "radix-ui";
import type { ReactNode } from "react";
import { restoreFocus } from "./focus";

interface Props {
  title: string;
  onClose: () => void;
  wide?: boolean;
  children: ReactNode;
}

/** What is written or chosen into; the first of them has the focus at first. */
const fields = "input:not([type=hidden]), textarea, select";

/** Something in front of the page, until it is closed. */
export function Modal({ title, onClose, wide = false, children }: Props) {
  return (
    <Dialog.Root open onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-ink/40" />
        <Dialog.Content
          aria-describedby={undefined}
          onOpenAutoFocus={(e) => {
            const first = (e.target as HTMLElement).querySelector<HTMLElement>(fields);
            if (!first) return;
            e.preventDefault();
            first.focus();
          }}
          onCloseAutoFocus={(e) => {
            e.preventDefault();
            restoreFocus();
          }}
          className={`fixed top-[8vh] left-1/2 z-40 flex max-h-[84vh] -translate-x-1/2 flex-col rounded-sheet border border-ink bg-paper p-4 ${wide ? "w-[min(64rem,96vw)]" : "w-[min(32rem,94vw)]"}`}
        >
          <div className="flex items-baseline">
            <Dialog.Title className="text-lg font-semibold">{title}</Dialog.Title>
            <Dialog.Close aria-label="Close" className="ml-auto rounded-sheet p-1 text-soft hover:bg-sheet">
              <X size={18} aria-hidden />
            </Dialog.Close>
          </div>
          <div className="mt-3 min-h-0 overflow-y-auto">{children}</div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
