// @vitest-environment jsdom
import { afterEach, describe, expect, it, vi } from "vitest";
import { addressOf, ask, Busy, Failure, Refusal, remove, send, Unreachable } from "./client";
import { has, may, newQueries } from "./hooks";
import { sessionEnded } from "../signal";
import type { Session } from "./client";

afterEach(() => {
  vi.unstubAllGlobals();
  window.early = undefined;
});

const note = { about: "stony-beck", text: "ice" };

/** The addresses that were asked for. */
const asked = () =>
  vi.mocked(fetch).mock.calls.map(([request]) => (request as Request).url.replace(location.origin, ""));

const answers = (status: number, body: string, type = "application/json") =>
  vi.stubGlobal(
    "fetch",
    vi.fn(() => Promise.resolve(new Response(body, { status, headers: { "Content-Type": type } }))),
  );

describe("a call", () => {
  it("gives what the service answers", async () => {
    answers(200, '{"series":[]}');
    await expect(ask("series")).resolves.toEqual({ series: [] });
    await ask("windows", { select: "a/b c", last: "1d" });
    await ask("windows", new URLSearchParams("select=a&select=b"));
    await ask("boards/{board}", { board: "7 8", version: "2" });
    expect(asked()).toEqual([
      "/api/v1/series",
      "/api/v1/windows?select=a%2Fb%20c&last=1d",
      "/api/v1/windows?select=a&select=b",
      "/api/v1/boards/7%208?version=2",
    ]);
    expect(addressOf("notes", new URLSearchParams("format=csv"))).toBe("/api/v1/notes?format=csv");
  });
  it("that is refused says why, in the service's words", async () => {
    answers(400, '{"code":"range","detail":"range is reversed"}');
    await expect(ask("windows", { from: "x" })).rejects.toThrow("range is reversed");
    await expect(ask("windows", { from: "x" })).rejects.toBeInstanceOf(Refusal);
  });
  it("that nobody answers is said in words that people know", async () => {
    vi.stubGlobal(
      "fetch",
      vi.fn(() => Promise.reject(new TypeError("Failed to fetch"))),
    );
    const failed = await ask("series").catch((e: unknown) => e);
    expect(failed).toBeInstanceOf(Unreachable);
    expect(String(failed)).not.toMatch(/fetch|TypeError/);
  });
  it.each([
    [502, "<html>Bad Gateway</html>"],
    [503, ""],
    [504, "upstream"],
    [200, '{"series": ['],
  ])("that something before the service answers with HTTP %d may be made again", async (status, body) => {
    answers(status, body, "text/html");
    await expect(ask("series")).rejects.toBeInstanceOf(Unreachable);
  });
  it.each([
    [429, "too_many", "fewer", Busy],
    [503, "busy", "other queries", Busy],
    [500, "internal", "its log says more", Failure],
    [502, "field", "illegal data address", Refusal],
    [504, "field", "no answer came in time", Refusal],
  ])(
    "that the service answers with HTTP %d and a reason shows the reason",
    async (status, code, message, kind) => {
      answers(status, JSON.stringify({ code, detail: message }));
      await expect(ask("series")).rejects.toBeInstanceOf(kind);
      await expect(ask("series")).rejects.toThrow(message);
    },
  );
  it("that the service itself cannot do now is a refusal, and says why", async () => {
    answers(503, '{"code":"store","detail":"the disk is full"}');
    await expect(send("notes", note)).rejects.toBeInstanceOf(Refusal);
    await expect(send("notes", note)).rejects.toThrow("the disk is full");
  });
  it("tells the page when nobody is logged in any more", async () => {
    const out = vi.fn();
    const stop = sessionEnded.listen(out);
    answers(401, '{"code":"login","detail":"log in"}');
    await expect(remove("notes/{note}", { note: "1" })).rejects.toThrow("log in");
    expect(out).toHaveBeenCalledOnce();
    stop();
  });
  it("that was made ahead is used once", async () => {
    window.early = new Map([["series", Promise.resolve(new Response('{"early":true}'))]]);
    answers(200, '{"early":false}');
    await expect(ask("series")).resolves.toEqual({ early: true });
    await expect(ask("series")).resolves.toEqual({ early: false });
    window.early = new Map([["series", Promise.resolve(null)]]); // it was not answered
    await expect(ask("series")).resolves.toEqual({ early: false });
  });
});

describe("questions", () => {
  const retry = newQueries().getDefaultOptions().queries?.retry as (count: number, error: Error) => boolean;
  const delay = newQueries().getDefaultOptions().queries?.retryDelay as (count: number) => number;
  it("are asked again for as long as the service is away, and not when it refuses", () => {
    expect(retry(500, new Unreachable("away"))).toBe(true);
    expect(retry(500, new Busy("later"))).toBe(true);
    expect([0, 2, 3].map((n) => retry(n, new Failure("broken")))).toEqual([true, true, false]);
    expect(retry(0, new Refusal("role", "no"))).toBe(false);
  });
  it("wait longer each time, up to ten seconds", () => {
    expect([0, 1, 2, 20].map(delay)).toEqual([500, 1000, 2000, 10_000]);
  });
});

describe("roles", () => {
  const session = (role: string, whole: boolean) => ({ role, whole }) as Session;
  it("include those below, and some need to see everything", () => {
    expect(has(session("engineer", false), "operator")).toBe(true);
    expect(has(session("viewer", true), "operator")).toBe(false);
    expect(may(session("engineer", false), "engineer")).toBe(false);
    expect(may(session("engineer", true), "engineer")).toBe(true);
    expect(has(undefined, "viewer")).toBe(false);
  });
});
