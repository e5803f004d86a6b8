import { useLocation } from "react-router";
import { Modal } from "../parts/Modal";
import { helpOf } from "./helpTexts";

/** What the page shows, and what can be done on it. */
export default function Help({ onClose }: { onClose: () => void }) {
  const { pathname } = useLocation();
  const help = helpOf(pathname);
  return (
    <Modal title={`Help: ${help.title}`} onClose={onClose}>
      <div className="flex flex-col gap-3">
        {help.says.map((text) => (
          <p key={text}>{text}</p>
        ))}
        <h2 className="font-semibold">Keys</h2>
        <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
          {[...help.keys, ["Ctrl K", "find any series, board, page or action"], ["?", "this help"]].map(
            ([key, does]) => (
              <div key={key} className="contents">
                <dt>
                  <kbd className="rounded-sheet border border-rule bg-sheet px-1">{key}</kbd>
                </dt>
                <dd>{does}</dd>
              </div>
            ),
          )}
        </dl>
        <p>
          <a href="/docs" data-inner className="underline" onClick={onClose}>
            The manual
          </a>{" "}
          says how to install, connect, watch over and mend it. It needs no network.
        </p>
        <p className="text-sm text-soft">
          All that is shown here can be asked for over HTTP;{" "}
          <a href="/api/openapi.yaml" className="underline">
            /api/openapi.yaml
          </a>{" "}
          describes how.
        </p>
      </div>
    </Modal>
  );
}
