import { useQuery } from "@tanstack/react-query";
import { ask } from "../api/client";
import { number } from "../format";
import { Link } from "../parts/Link";
import { Modal } from "../parts/Modal";
import { Failed } from "../parts/Said";
import { longTime } from "../time/format";
import { dump } from "./dump";

/** One reject: the bytes that arrived, as text where they are one, what was read of them, and the rule. */
export function OneReject({ id, zone, onClose }: { id: string; zone: string; onClose: () => void }) {
  const found = useQuery({
    queryKey: ["reject", id],
    queryFn: () => ask("rejects/{id}", { id }),
  });
  const r = found.data;
  const at = (text: string | null) => (text ? longTime(Date.parse(text), zone, true) : "it had none");
  return (
    <Modal title={`Reject ${id}`} onClose={onClose} wide>
      <Failed error={found.error} />
      {r && (
        <div data-one-reject>
          <p>
            <span className="rounded-sheet bg-bad-wash px-1.5 text-bad">{r.rule}</span> {r.reason}
          </p>
          <dl className="mt-3 grid grid-cols-2 gap-x-6 gap-y-2 sm:grid-cols-3">
            <Fact name="refused">{at(r.time)}</Fact>
            <Fact name="source">{r.source}</Fact>
            <Fact name="topic or register">{r.place}</Fact>
            <Fact name="series">
              {r.series ? (
                <Link to={`/series?path=${encodeURIComponent(r.series)}`} className="underline">
                  {r.series}
                </Link>
              ) : (
                "it could not be read so far"
              )}
            </Fact>
            <Fact name="value, as its source read it">
              {r.text || (r.value === null ? "none" : `${number(r.value, 8)} ${r.unit}`)}
            </Fact>
            <Fact name="time of the reading">{at(r.reading_time)}</Fact>
            {r.replayed_at && <Fact name="counts since">{at(r.replayed_at)}</Fact>}
          </dl>
          {dump(r.raw).text !== null && (
            <>
              <h3 className="mt-4 text-sm text-soft">What arrived, as text</h3>
              <pre
                className="max-h-48 overflow-auto rounded-sheet border border-rule bg-sheet p-2 whitespace-pre-wrap"
                tabIndex={0}
              >
                {dump(r.raw).text}
              </pre>
            </>
          )}
          <h3 className="mt-3 text-sm text-soft">Bytes: {dump(r.raw).length}</h3>
          <pre
            className="max-h-56 overflow-auto rounded-sheet border border-rule bg-sheet p-2"
            tabIndex={0}
            data-bytes
          >
            {dump(r.raw).lines.join("\n")}
          </pre>
        </div>
      )}
    </Modal>
  );
}

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div>
      <dt className="text-sm text-soft">{name}</dt>
      <dd className="break-words">{children}</dd>
    </div>
  );
}
