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

/** The body of an answer; a refusal becomes an Error. */
async function said<T>(answer: Response): Promise<T> {
  const body: unknown = await answer.json().catch(() => null);
  if (!answer.ok) {
    const error = (body as { error?: { code?: string; message?: string } } | null)?.error;
    if (error?.code === "session" || error?.code === "login") dispatchEvent(new Event("loggedout"));
    throw new Refusal(error?.code ?? "", error?.message ?? `The service answered HTTP ${answer.status}.`);
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

/** Takes something away. */
export async function remove(call: string): Promise<void> {
  await said(await fetch(`/api/v1/${call}`, { method: "DELETE" }));
}
