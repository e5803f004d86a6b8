// @vitest-environment jsdom
import { afterEach, beforeEach, describe, expect, it, vi } from "vitest";
import type { Value } from "../api/client";
import { sessionEnded } from "../signal";
import { live } from "./store";

/** A stream of which the test says what comes. */
class Stream extends EventTarget {
  static readonly CLOSED = 2;
  static all: Stream[] = [];
  readyState = 1;
  onerror: (() => void) | null = null;
  readonly address: string;
  constructor(address: string) {
    super();
    this.address = address;
    Stream.all.push(this);
  }
  close() {
    this.readyState = 2;
  }
  says(...values: Partial<Value>[]) {
    const data = JSON.stringify({ at: new Date().toISOString(), values });
    this.dispatchEvent(new MessageEvent("now", { data }));
  }
  fails(closed: boolean) {
    if (closed) this.readyState = 2;
    this.onerror?.();
  }
}

const newest = () => Stream.all[Stream.all.length - 1] as Stream;
let leave: () => void;

beforeEach(() => {
  vi.useFakeTimers();
  Stream.all = [];
  vi.stubGlobal("EventSource", Stream);
  live.values.clear();
  live.standing = "connecting";
  leave = live.use();
});

afterEach(() => {
  leave();
  vi.useRealTimers();
  vi.unstubAllGlobals();
});

describe("the stream of latest values", () => {
  it("is one, however many parts of a page use it", () => {
    const second = live.use();
    expect(Stream.all).toHaveLength(1);
    second();
    expect(newest().readyState).toBe(1);
    leave();
    expect(newest().readyState).toBe(2);
    leave = live.use();
    expect(Stream.all).toHaveLength(2);
  });
  it("is held only while somebody looks", () => {
    const looks = (visibilityState: string) => {
      Object.defineProperty(document, "visibilityState", { value: visibilityState, configurable: true });
      document.dispatchEvent(new Event("visibilitychange"));
    };
    newest().says({ path: "a/b/c", value: 1 });
    looks("hidden");
    expect(newest().readyState).toBe(2);
    expect(live.standing).toBe("live"); // what was known stays in sight
    looks("visible");
    expect(Stream.all).toHaveLength(2);
    looks("visible");
    expect(Stream.all).toHaveLength(2);
    dispatchEvent(new Event("pagehide"));
    expect(newest().readyState).toBe(2);
  });
  it("tells each part of the series it shows, and no other", () => {
    const [a, b] = [vi.fn(), vi.fn()];
    const stop = live.subscribeTo("s/a", a);
    live.subscribeTo("s/b", b);
    newest().says({ path: "s/a", value: 1 });
    expect(live.standing).toBe("live");
    expect(live.values.get("s/a")?.value).toBe(1);
    expect([a.mock.calls.length, b.mock.calls.length]).toEqual([1, 0]);
    stop();
    newest().says({ path: "s/a", value: 2 });
    expect(a).toHaveBeenCalledOnce();
  });
  it("counts that a series came, and not that a value did", () => {
    newest().says({ path: "s/a" });
    const before = live.listVersion;
    newest().says({ path: "s/a" });
    expect(live.listVersion).toBe(before);
    newest().says({ path: "s/new" });
    expect(live.listVersion).toBe(before + 1);
  });
  it("that breaks leaves what is known, and is opened by the browser again", () => {
    newest().says({ path: "s/a", value: 7 });
    newest().fails(false);
    expect(live.standing).toBe("lost");
    expect(live.values.get("s/a")?.value).toBe(7);
    vi.advanceTimersByTime(60_000);
    expect(Stream.all).toHaveLength(1);
  });
  it("that is refused is tried again with growing pauses, as after HTTP 502", () => {
    const asked = vi.fn();
    const stop = sessionEnded.listen(asked);
    newest().fails(true);
    expect(asked).toHaveBeenCalledOnce(); // it may be that the session is over
    vi.advanceTimersByTime(1000);
    expect(Stream.all).toHaveLength(2);
    newest().fails(true);
    vi.advanceTimersByTime(1000);
    expect(Stream.all).toHaveLength(2);
    vi.advanceTimersByTime(1000);
    expect(Stream.all).toHaveLength(3);
    newest().says({ path: "s/a" });
    newest().fails(true);
    vi.advanceTimersByTime(1000);
    expect(Stream.all).toHaveLength(4); // once it went well, it begins anew
    stop();
  });
  it("forgets everything when somebody else logs in", () => {
    newest().says({ path: "s/secret" });
    live.reset();
    expect(live.values.size).toBe(0);
    expect(Stream.all).toHaveLength(2);
  });
});
