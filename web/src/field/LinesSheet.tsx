import { useMutation } from "@tanstack/react-query";
import { send, type Lines } from "../api/client";
import { button, mainButton } from "../parts/Field";

/** Lines of a configuration: what they would change, and buttons to write them and to have
 *  the gateway read them. */
export function LinesSheet({ lines }: { lines: Lines }) {
  const body = { sources: lines.sources, rules: lines.rules };
  const look = useMutation({
    mutationFn: (write: boolean) => send("configuration/append", { ...body, write }),
  });
  const reload = useMutation({ mutationFn: () => send("reload", {}) });
  return (
    <section aria-label="Lines" className="mt-4 rounded-sheet border border-ink bg-sheet px-3 py-2">
      <h3 className="font-semibold">Lines for the configuration</h3>
      {lines.skipped.map((text) => (
        <p key={text} className="text-stale">
          left out: {text}
        </p>
      ))}
      <pre className="mt-2 overflow-x-auto text-sm" data-lines>
        {look.data?.difference ??
          [
            lines.rules && `# below gateway: series:\n${lines.rules}`,
            lines.sources && `# below gateway: sources:\n${lines.sources}`,
            !lines.sources && lines.below && `# below the address of the source:\n${lines.below}`,
          ].join("")}
      </pre>
      {lines.sources || !lines.below ? (
        <div className="mt-2 flex flex-wrap gap-2">
          <button type="button" className={button} onClick={() => look.mutate(false)}>
            Show the difference
          </button>
          <button
            type="button"
            className={button}
            disabled={!look.data || look.data.written}
            onClick={() => look.mutate(true)}
          >
            Write to the file
          </button>
          <button
            type="button"
            className={mainButton}
            disabled={!look.data?.written}
            onClick={() => reload.mutate()}
          >
            Reload the gateway
          </button>
        </div>
      ) : (
        <p className="mt-2 text-soft">The source is there already; put these lines into it by hand.</p>
      )}
      {(look.error ?? reload.error) && (
        <p role="alert" className="mt-2 whitespace-pre-wrap text-bad">
          {(look.error ?? reload.error)?.message}
        </p>
      )}
      {look.data?.written && <p className="mt-2 text-good">Written to {look.data.file}.</p>}
      {reload.data && (
        <p role="status" className="mt-2 text-good">
          Taken over: {reload.data.applied.join(", ") || "nothing, as nothing changed"}.
          {reload.data.restart.length > 0 && ` After a restart: ${reload.data.restart.join(", ")}.`}
        </p>
      )}
    </section>
  );
}
