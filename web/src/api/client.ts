import type { components } from "./schema.gen";

export type Value = components["schemas"]["Value"];
export type Now = components["schemas"]["Now"];
export type Series = components["schemas"]["Series"];
export type Windows = components["schemas"]["Windows"];
export type SeriesWindows = components["schemas"]["SeriesWindows"];
export type Uplinks = components["schemas"]["Uplinks"];
export type Health = components["schemas"]["Health"];
export type Watched = components["schemas"]["Watched"];
export type Probed = components["schemas"]["Probed"];
export type Scanned = components["schemas"]["Scanned"];
export type Lines = components["schemas"]["Lines"];
export type LinesFor = components["schemas"]["LinesFor"];
export type Checked = components["schemas"]["Checked"];
export type Plan = components["schemas"]["Plan"];
export type Discovered = components["schemas"]["Discovered"];
export type Appended = components["schemas"]["Appended"];
export type Reloaded = components["schemas"]["Reloaded"];
export type Trial = components["schemas"]["Trial"];
export type Reject = components["schemas"]["Reject"];
export type ReplayOutcome = components["schemas"]["ReplayOutcome"];
export type RejectCounts = components["schemas"]["RejectCounts"];

/** The body of an answer; a refusal becomes an Error with its message. */
async function said<T>(answer: Response): Promise<T> {
  const body: unknown = await answer.json().catch(() => null);
  if (!answer.ok) {
    const message = (body as { error?: { message?: string } } | null)?.error?.message;
    throw new Error(message ?? `The service answered HTTP ${answer.status}.`);
  }
  return body as T;
}

/** Asks the service this page came from. */
export async function ask<T>(call: string, query: Record<string, string> = {}): Promise<T> {
  const text = new URLSearchParams(query).toString();
  return said(await fetch(`/api/v1/${call}${text ? `?${text}` : ""}`));
}

/** Sends a value and reads the answer. */
export async function send<T>(call: string, body: unknown): Promise<T> {
  const headers = { "Content-Type": "application/json" };
  return said(await fetch(`/api/v1/${call}`, { method: "POST", headers, body: JSON.stringify(body) }));
}
