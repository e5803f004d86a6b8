import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useHealth } from "../api/hooks";
import { send } from "../api/client";
import { useWatch } from "../api/useWatch";
import { button, entry, Field, mainButton } from "../parts/Field";
import { preview } from "./preview";
import { LinesSheet } from "./LinesSheet";
import { Where } from "./Where";

/** What a broker carries, or what devices publish at a listener: live, as a tree of topics. */
export function TopicsTool() {
  const sources = (useHealth().data?.gateway?.sources ?? []).filter((s) => s.form.startsWith("mqtt_"));
  const [where, setWhere] = useState("");
  const [address, setAddress] = useState("");
  const [name, setName] = useState("broker");
  const [place, setPlace] = useState<{ source?: string; address?: string } | null>(null);
  const [left, setLeft] = useState<string[]>([]);
  const { now, failed } = useWatch(place);
  const topics = now?.topics ?? [];
  const chosen = topics.filter((t) => !left.includes(t.topic));
  const lines = useMutation({
    mutationFn: () =>
      send("field/lines", {
        name,
        address: place?.address,
        topics: chosen.map((t) => ({ topic: t.topic, last: t.last, states: t.states, grows: t.grows })),
      }),
  });
  return (
    <>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          lines.reset();
          setPlace(place ? null : where ? { source: where } : { address });
        }}
      >
        <Where
          sources={sources}
          source={where}
          onSource={setWhere}
          other="broker"
          address={address}
          onAddress={(e) => setAddress(e.target.value)}
          placeholder="tcp://127.0.0.1:1883"
          disabled={!!place}
        />
        <button type="submit" className={place ? button : mainButton} disabled={!where && !address}>
          {place ? "Stop watching" : "Watch"}
        </button>
      </form>
      {failed && (
        <p role="alert" className="mt-3 text-bad">
          {failed}
        </p>
      )}
      {place && !failed && topics.length === 0 && (
        <p className="mt-4 text-soft">Nothing was published yet; devices may only speak once a minute.</p>
      )}
      {topics.length > 0 && (
        <div className="mt-4 overflow-x-auto rounded-sheet border border-rule bg-sheet">
          <table className="w-full">
            <thead>
              <tr className="text-left text-sm text-soft">
                <th className="px-3 py-1 font-normal">topic</th>
                <th className="px-3 py-1 text-right font-normal">messages</th>
                <th className="px-3 py-1 text-right font-normal">a minute</th>
                <th className="px-3 py-1 text-right font-normal">bytes</th>
                <th className="px-3 py-1 font-normal">last</th>
                <th className="px-3 py-1 font-normal">seems to be</th>
              </tr>
            </thead>
            <tbody>
              {topics.map((t, i) => {
                const levels = t.topic.split("/");
                const above = topics[i - 1]?.topic.split("/") ?? [];
                const same = levels.findIndex((level, k) => above[k] !== level || k === levels.length - 1);
                return (
                  <tr key={t.topic} data-topic={t.topic} className="border-t border-rule align-top">
                    <td className="px-3 py-1">
                      <label className="flex items-baseline gap-2">
                        <input
                          type="checkbox"
                          checked={!left.includes(t.topic)}
                          onChange={(e) =>
                            setLeft(e.target.checked ? left.filter((x) => x !== t.topic) : [...left, t.topic])
                          }
                        />
                        <span className="whitespace-nowrap">
                          <span className="text-soft opacity-60">
                            {levels.slice(0, Math.max(same, 0)).map((l) => `${l}/`)}
                          </span>
                          {levels.slice(Math.max(same, 0)).join("/")}
                        </span>
                      </label>
                    </td>
                    <td className="px-3 py-1 text-right">{t.messages.toLocaleString("en-GB")}</td>
                    <td className="px-3 py-1 text-right">{(60 * t.rate).toFixed(1)}</td>
                    <td className="px-3 py-1 text-right">{t.bytes.toFixed(0)}</td>
                    <td className="max-w-64 truncate px-3 py-1">{preview(t.last)}</td>
                    <td className="px-3 py-1 text-soft">{t.seems}</td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
      {topics.length > 0 && (
        <div className="mt-3 flex flex-wrap items-end gap-3">
          {place?.address && (
            <Field label="Name of the source">
              <input className={entry} name="source" value={name} onChange={(e) => setName(e.target.value)} />
            </Field>
          )}
          <button
            type="button"
            className={mainButton}
            disabled={chosen.length === 0}
            onClick={() => lines.mutate()}
          >
            Lines for {chosen.length} topics
          </button>
        </div>
      )}
      {lines.error && (
        <p role="alert" className="mt-3 text-bad">
          {lines.error.message}
        </p>
      )}
      {lines.data && <LinesSheet key={lines.data.below + lines.data.rules} lines={lines.data} />}
    </>
  );
}
