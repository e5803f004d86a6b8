import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ask, send, type BoardLane } from "../api/client";
import { at } from "../board/board";
import { button } from "../parts/Field";
import { Failed } from "../parts/Said";
import { serviceNow } from "../time/clock";
import { spanOf } from "../time/range";
import { useView } from "./view";

/** Where a central draws summaries of a range in which the readings themselves would fit, it can ask the gateway for these. */
export function FetchReadings({ lane, onHere }: { lane: BoardLane; onHere: () => void }) {
  const view = useView();
  const client = useQueryClient();
  const [asked, setAsked] = useState<string[]>([]);
  const names = (lane.series ?? []).map((s) => at(s, view.about)).filter((s) => s !== undefined);
  const begin = useMutation({
    mutationFn: async () => {
      const span = spanOf(view.range, serviceNow(), view.zone);
      const [from, to] = [new Date(span.from).toISOString(), new Date(span.to).toISOString()];
      const made = await Promise.all(
        names.map((select) => send("requests", { kind: "readings", select, from, to })),
      );
      setAsked(made.flatMap((m) => m.requests.map((r) => r.id)));
    },
  });
  const states = useQuery({
    queryKey: ["request", asked],
    enabled: asked.length > 0,
    refetchInterval: 500,
    queryFn: async () => {
      const all = await Promise.all(asked.map((request) => ask("requests/{request}", { request })));
      if (all.every((r) => r.state === "done")) {
        await client.invalidateQueries({ queryKey: ["readings"] });
        setAsked([]);
        onHere();
      }
      return all;
    },
  });
  const failed = states.data?.find((r) => r.state === "refused" || r.state === "expired");
  const waits = asked.length > 0 && !failed;
  const progress = states.data?.reduce((sum, r) => sum + r.progress / states.data.length, 0) ?? 0;
  return (
    <p className="flex flex-wrap items-center gap-2 px-1 text-sm print:hidden" data-fetch>
      <button
        type="button"
        className={button}
        disabled={waits || begin.isPending}
        onClick={() => begin.mutate()}
      >
        {waits ? `Fetching the readings, ${Math.round(100 * progress)} %` : "Fetch the readings"}
      </button>
      <span className="text-soft">
        {failed
          ? `${failed.state}: ${failed.detail}`
          : "Only summaries are kept here; the gateway has the readings."}
      </span>
      <Failed error={begin.error} />
    </p>
  );
}
