import { useMutation, useQueryClient } from "@tanstack/react-query";
import { send, type Uplinks } from "../api/client";
import { button } from "../parts/Field";
import { Failed } from "../parts/Said";

type Sending = Uplinks["sending"][number];

/** Compares what an uplink has sent with what there is at the other end, and says what was found last. */
export function Compare({ uplink, ago }: { uplink: Sending; ago: (text: string | null) => string }) {
  const compare = useMutation({
    mutationFn: (mend: boolean) => send("uplinks/{uplink}/reconcile", { mend }, { uplink: uplink.name }),
  });
  const last = compare.data ?? uplink.reconciled;
  return (
    <div className="mt-3 flex flex-wrap items-center gap-3">
      <button
        type="button"
        className={button}
        disabled={compare.isPending}
        onClick={() => compare.mutate(false)}
      >
        {compare.isPending ? "Comparing …" : "Compare both ends"}
      </button>
      {last && last.different > 0 && (
        <button
          type="button"
          className={button}
          disabled={compare.isPending}
          onClick={() => compare.mutate(true)}
        >
          Send again what differs
        </button>
      )}
      {last && (
        <p role="status" className={last.different > 0 ? "text-bad" : "text-soft"}>
          {last.text}, {ago(last.at)}
        </p>
      )}
      <Failed error={compare.error} />
    </div>
  );
}

/** Has the gateway of a site compare; what it finds is with the requests. */
export function AskToCompare({ site }: { site: string }) {
  const client = useQueryClient();
  const asked = useMutation({
    mutationFn: () => send("requests", { kind: "reconcile", site }),
    onSuccess: () => client.invalidateQueries({ queryKey: ["requests"] }),
  });
  return (
    <div className="mt-3 flex flex-wrap items-center gap-3">
      <button type="button" className={button} disabled={asked.isPending} onClick={() => asked.mutate()}>
        Compare both ends
      </button>
      {asked.data && (
        <p role="status" className="text-soft">
          The gateway was asked; what it finds stands below.
        </p>
      )}
      <Failed error={asked.error} />
    </div>
  );
}
