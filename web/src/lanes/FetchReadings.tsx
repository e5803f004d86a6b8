import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ask, send, type BoardLane } from "../api/client";
import { at } from "../board/board";
import { button } from "../parts/Field";
import { Failed } from "../parts/Said";
import { serviceNow } from "../time/clock";
import { spanOf } from "../time/range";
import { useView } from "./view";

/** How long readings come as they are made, until somebody asks again. */
const liveFor = "10m";

interface Props {
  lane: BoardLane;
  live: boolean; // the range ends now
  onHere: (until: number | null) => void; // until when they come as they are made
}

/** Where a central draws summaries of a range in which the readings themselves would fit, it can ask the gateway for these,
 *  and where the range ends now for those that are made from now on as well. */
export function FetchReadings({ lane, live, onHere }: Props) {
  const view = useView();
  const client = useQueryClient();
  const [asked, setAsked] = useState<string[]>([]);
  const names = (lane.series ?? []).map((s) => at(s, view.about)).filter((s) => s !== undefined);
  const begin = useMutation({
    mutationFn: async () => {
      const span = spanOf(view.range, serviceNow(), view.zone);
      const from = new Date(span.from).toISOString();
      const until = live ? { live: liveFor } : { to: new Date(span.to).toISOString() };
      const made = await Promise.all(
        names.map((select) => send("requests", { kind: "readings", select, from, ...until })),
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
      const bodies = all.map((r) => r.body as Record<string, unknown>);
      if (all.every((r, i) => r.state === "done" || (bodies[i]?.live && r.state === "delivered"))) {
        await client.invalidateQueries({ queryKey: ["readings"] });
        setAsked([]);
        const ends = bodies.filter((body) => body.live).map((body) => Date.parse(String(body.to)));
        onHere(ends.length ? Math.min(...ends) : null);
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
        {waits
          ? `Fetching the readings, ${Math.round(100 * progress)} %`
          : live
            ? "Follow the readings for 10 min"
            : "Fetch the readings"}
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
