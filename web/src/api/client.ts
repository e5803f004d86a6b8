import type { components } from "./schema.gen";

export type Value = components["schemas"]["Value"];
export type Now = components["schemas"]["Now"];
export type Series = components["schemas"]["Series"];
export type Windows = components["schemas"]["Windows"];
export type SeriesWindows = components["schemas"]["SeriesWindows"];
export type Uplinks = components["schemas"]["Uplinks"];
export type Health = components["schemas"]["Health"];

/** Asks the service this page came from; a refusal becomes an Error with its message. */
export async function ask<T>(call: string, query: Record<string, string> = {}): Promise<T> {
  const text = new URLSearchParams(query).toString();
  const answer = await fetch(`/api/v1/${call}${text ? `?${text}` : ""}`);
  const body: unknown = await answer.json().catch(() => null);
  if (!answer.ok) {
    const message = (body as { error?: { message?: string } } | null)?.error?.message;
    throw new Error(message ?? `The service answered HTTP ${answer.status}.`);
  }
  return body as T;
}
