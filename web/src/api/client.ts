import { heardClock } from "../time/clock";
import type { components } from "./schema.gen";

/** Latest values as the stream tells them: only what changes of them. */
export type Value = components["schemas"]["BriefValue"];
export type Now = components["schemas"]["Brief"];
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

export type Readings = components["schemas"]["Readings"];
export type Rejects = components["schemas"]["Rejects"];
export type Versions = components["schemas"]["Versions"];
export type LinkHistory = components["schemas"]["LinkHistory"];
export type Outage = components["schemas"]["Outage"];
export type Unit = components["schemas"]["Unit"];
export type Note = components["schemas"]["Note"];
export type Notes = components["schemas"]["Notes"];
export type Board = components["schemas"]["Board"];
export type BoardLane = components["schemas"]["BoardLane"];
export type BoardHead = components["schemas"]["BoardHead"];
export type BoardRange = components["schemas"]["BoardRange"];
export type BoardVersion = components["schemas"]["BoardVersion"];
export type SavedBoard = components["schemas"]["SavedBoard"];

export type Session = components["schemas"]["Session"];
export type Account = components["schemas"]["Account"];
export type OwnAccount = components["schemas"]["OwnAccount"];
export type AccountCode = components["schemas"]["AccountCode"];
export type Token = components["schemas"]["Token"];
export type MadeToken = components["schemas"]["MadeToken"];
export type Enrolment = components["schemas"]["Enrolment"];
export type EnrolledGateway = components["schemas"]["EnrolledGateway"];
export type AuditEntry = components["schemas"]["AuditEntry"];
export type AuditVerified = components["schemas"]["AuditVerified"];
export type Authenticator = components["schemas"]["Authenticator"];

/** Why a call was refused; code says it for programs. */
export class Refusal extends Error {
  readonly code: string;
  constructor(code: string, message: string) {
    super(message);
    this.code = code;
  }
}

/** The service did not answer, or what stands before it did; it is asked again for as long as somebody looks. */
export class Unreachable extends Error {}

/** The service has too much to do now; it is asked again for as long as somebody looks. */
export class Busy extends Error {}

/** The service failed; it is asked again a few times. */
export class Failure extends Error {}

/** Whether a call that failed so often is made again by itself. */
export function again(count: number, error: Error): boolean {
  if (error instanceof Unreachable || error instanceof Busy) return count < 1000;
  return error instanceof Failure && count < 3;
}

const trying = "The service cannot be reached. It is tried again by itself.";

declare global {
  interface Window {
    /** What was asked for before the console itself had come; each answer is used once. */
    early?: Map<string, Promise<Response | null>>;
  }
}

/** The answer of a call without parameters that was made ahead, if it came. */
export async function takeEarly(name: string): Promise<Response | null> {
  const answer = window.early?.get(name);
  window.early?.delete(name);
  return (await answer) ?? null;
}

/** Makes a call; that nothing answers is said in words that people know. */
async function call(path: string, init?: RequestInit): Promise<Response> {
  try {
    return await fetch(path, init);
  } catch (cause) {
    throw new Unreachable(trying, { cause });
  }
}

/** What an answer that is no success means: whether asking again may help, or somebody has to change something. What the
 *  service itself says has a code; without one something before it answered. */
function failureOf(status: number, code: string, message: string): Error {
  if (!code && [502, 503, 504].includes(status))
    return new Unreachable(`The service is not ready (HTTP ${status}). It is tried again by itself.`);
  if (status === 429 || code === "busy" || code === "too_many")
    return new Busy(message || "The service has too much to do now. It is tried again by itself.");
  if (status === 500 || code === "internal")
    return new Failure(message || `The service failed (HTTP ${status}); its log says more.`);
  return new Refusal(code, message || `The service answered HTTP ${status}.`);
}

const dateUncertain = 2000; // ms: the header Date has seconds, and the answer took a while

/** The body of an answer; one that is no success becomes an Error. */
async function said<T>(answer: Response): Promise<T> {
  // Not of answers that a cache may have kept.
  if (answer.url.endsWith("/api/v1/health"))
    heardClock(Date.parse(answer.headers.get("date") ?? "") + 500, dateUncertain);
  const body: unknown = await answer.json().catch(() => undefined);
  if (!answer.ok) {
    const error = (body as { error?: { code?: string; message?: string } } | undefined)?.error;
    const code = error?.code ?? "";
    if (code === "session" || code === "login") dispatchEvent(new Event("loggedout"));
    throw failureOf(answer.status, code, error?.message ?? "");
  }
  if (body === undefined)
    throw new Unreachable("The answer of the service broke off. It is tried again by itself.");
  return body as T;
}

/** Asks the service this page came from. */
export async function ask<T>(
  name: string,
  query: Record<string, string> | URLSearchParams = {},
  signal?: AbortSignal,
): Promise<T> {
  const plain = !(query instanceof URLSearchParams) && Object.keys(query).length === 0;
  const early = plain ? await takeEarly(name) : null;
  if (early) return said(early);
  return said(await call(addressOf(name, query), { signal }));
}

/** Where a call is made, such as for a download. */
export function addressOf(name: string, query: Record<string, string> | URLSearchParams): string {
  const text = new URLSearchParams(query).toString();
  return `/api/v1/${name}${text ? `?${text}` : ""}`;
}

/** Sends a value and reads the answer. */
export async function send<T>(name: string, body: unknown): Promise<T> {
  const headers = { "Content-Type": "application/json" };
  return said(await call(`/api/v1/${name}`, { method: "POST", headers, body: JSON.stringify(body) }));
}

/** Takes something away. */
export async function remove(name: string): Promise<void> {
  await said(await call(`/api/v1/${name}`, { method: "DELETE" }));
}
