import { sessionEnded } from "../signal";
import { heardClock } from "../time/clock";
import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

/** Latest values as the stream tells them: only what changes of them. */
export type Value = components["schemas"]["BriefValue"];
export type Now = components["schemas"]["Brief"];
export type Series = components["schemas"]["Series"];
export type Windows = components["schemas"]["Windows"];
export type SeriesWindows = components["schemas"]["SeriesWindows"];
export type Below = components["schemas"]["Below"];
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

/** What openapi-fetch gives: the body of an answer, or why there is none. */
interface Given {
  data?: unknown;
  error?: unknown;
  response: Response;
}

/** The body of an answer; one that is no success becomes an Error. */
function said({ data, error, response }: Given): unknown {
  // Not of answers that a cache may have kept.
  if (response.url.endsWith("/api/v1/health"))
    heardClock(Date.parse(response.headers.get("date") ?? "") + 500, dateUncertain);
  if (!response.ok) {
    const why = error as components["schemas"]["Problem"] | undefined; // or what something before the service says
    const code = why?.code ?? "";
    if (code === "session" || code === "login") sessionEnded.tell();
    throw failureOf(response.status, code, why?.detail ?? "");
  }
  return data;
}

const broken = "The answer of the service broke off. It is tried again by itself.";

/** Fetches; that nothing answers is said in words that people know. */
async function reach(request: Request): Promise<Response> {
  const early = request.method === "GET" ? await takeEarly(request.url.slice(base.length)) : null;
  if (early) return early;
  try {
    return await fetch(request);
  } catch (cause) {
    throw new Unreachable(trying, { cause });
  }
}

/** Where this page came from; there is none where no page is. */
const origin = typeof location === "undefined" ? "http://localhost" : location.origin;
const base = `${origin}/api/v1/`;

const api = createClient<paths>({ baseUrl: origin, fetch: reach });

type Method = "get" | "post" | "put" | "patch" | "delete";

/** The methods that send a value. */
type Sending = "post" | "put" | "patch";

/** The names of calls below /api/v1/ that have a method, as the description has them. */
export type Call<M extends Method> = {
  [P in keyof paths]: P extends `/api/v1/${infer Name}`
    ? undefined extends paths[P][M]
      ? never
      : Name
    : never;
}[keyof paths];

type Operation<N extends Call<M>, M extends Method> = `/api/v1/${N}` extends infer P extends keyof paths
  ? NonNullable<paths[P][M]>
  : never;

/** What a call answers. */
export type Answer<N extends Call<M>, M extends Method> =
  Operation<N, M> extends
    | { responses: { 200: { content: { "application/json": infer T } } } }
    | { responses: { 201: { content: { "application/json": infer T } } } }
    ? T
    : undefined;

/** What a call takes in its path and its query, written as text. */
export type Params<N extends Call<M>, M extends Method> = Partial<
  Record<ParamNames<Operation<N, M>, "path"> | ParamNames<Operation<N, M>, "query">, string>
>;

type ParamNames<O, In extends "path" | "query"> = O extends { parameters: { [K in In]?: infer P } }
  ? NamesOf<NonNullable<P>>
  : never;

// Of what has no parameters, keyof would be any name.
type NamesOf<P> = [P] extends [never] ? never : string & keyof P;

/** What a call takes as its body. */
export type Body<N extends Call<M>, M extends Sending = "post"> =
  Operation<N, M> extends { requestBody?: { content: { "application/json": infer T } } } ? T : undefined;

/** Parameters that a name has in braces go into the path, all others into the query. */
function parts(name: string, params: Record<string, string> | URLSearchParams) {
  const path: Record<string, string> = {};
  const query: Record<string, string[]> = {};
  const all = params instanceof URLSearchParams ? params : Object.entries(params);
  for (const [key, value] of all) {
    if (name.includes(`{${key}}`)) path[key] = value;
    else (query[key] ??= []).push(value);
  }
  return { path, query };
}

// The types of calls are those above; of those of openapi-fetch, parameters are not text.
type Untyped = (path: never, init: never) => Promise<Given>;

async function call(method: Untyped, name: string, params: object, init: object): Promise<unknown> {
  const all = { ...init, params: parts(name, params as Record<string, string> | URLSearchParams) };
  try {
    return said(await method(`/api/v1/${name}` as never, all as never));
  } catch (error) {
    if (error instanceof SyntaxError) throw new Unreachable(broken, { cause: error });
    throw error;
  }
}

/** Asks the service this page came from. */
export async function ask<N extends Call<"get">>(
  name: N,
  params: Params<N, "get"> | URLSearchParams = {},
  signal?: AbortSignal,
): Promise<Answer<N, "get">> {
  return (await call(api.GET as Untyped, name, params, { signal })) as Answer<N, "get">;
}

/** Asks for what is no JSON but a text. */
export async function askText<N extends Call<"get">>(
  name: N,
  params: Params<N, "get"> = {},
): Promise<string> {
  return (await call(api.GET as Untyped, name, params, { parseAs: "text" })) as string;
}

/** Where a call is made, such as for a download. */
export function addressOf(name: string, query: Record<string, string> | URLSearchParams): string {
  const text = new URLSearchParams(query).toString();
  return `/api/v1/${name}${text ? `?${text}` : ""}`;
}

/** Sends a value and reads the answer. */
export async function send<N extends Call<"post">>(
  name: N,
  body: Body<N>,
  params: Params<N, "post"> = {},
): Promise<Answer<N, "post">> {
  return (await call(api.POST as Untyped, name, params, { body })) as Answer<N, "post">;
}

/** Changes a part of something. */
export async function change<N extends Call<"patch">>(
  name: N,
  body: Body<N, "patch">,
  params: Params<N, "patch"> = {},
): Promise<Answer<N, "patch">> {
  return (await call(api.PATCH as Untyped, name, params, { body })) as Answer<N, "patch">;
}

/** Puts something in the place of a version of it. It is refused when that is not the newest any more. */
export async function replace<N extends Call<"put">>(
  name: N,
  version: number,
  body: Body<N, "put">,
  params: Params<N, "put"> = {},
): Promise<Answer<N, "put">> {
  const headers = { "If-Match": `"${version}"` };
  return (await call(api.PUT as Untyped, name, params, { body, headers })) as Answer<N, "put">;
}

/** Takes something away. */
export async function remove<N extends Call<"delete">>(
  name: N,
  params: Params<N, "delete"> = {},
): Promise<void> {
  await call(api.DELETE as Untyped, name, params, {});
}
