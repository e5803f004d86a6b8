import { sessionEnded } from "../signal";
import { heardClock } from "../time/clock";
import { takeEarly, type Now, type Value } from "../api/client";

export type Standing = "connecting" | "live" | "lost";

/** The latest values as the service's stream tells them, one stream for the whole page. Parts
 *  of the page hear of the series they show, so that 2,000 that change draw only those in sight. */
class LiveStore {
  values = new Map<string, Value>();
  standing: Standing = "connecting";
  /** Counts how often the list of series changed. */
  listVersion = 0;
  /** When the stream last said anything, by this machine's clock. */
  heard = 0;

  private stream: EventSource | null = null;
  private retry: ReturnType<typeof setTimeout> | undefined;
  private pause = 1000;
  private users = 0;
  private any = new Set<() => void>();
  private of = new Map<string, Set<() => void>>();

  /** Keeps the stream open until the returned function is called. */
  readonly use = () => {
    this.users++;
    if (this.users === 1) {
      this.open();
      document.addEventListener("visibilitychange", this.seen);
      addEventListener("pagehide", this.close);
    }
    return () => {
      this.users--;
      if (this.users > 0) return;
      this.close();
      document.removeEventListener("visibilitychange", this.seen);
      removeEventListener("pagehide", this.close);
    };
  };

  /** A tab that nobody looks at, and a page that was left and is kept for the way back, hold no stream: a
   *  browser has six connections to a service, and everything else would wait for one. */
  private readonly seen = () => {
    if (document.visibilityState === "hidden") this.close();
    else if (!this.stream) this.open();
  };

  readonly subscribe = (notice: () => void) => {
    this.any.add(notice);
    return () => this.any.delete(notice);
  };

  readonly subscribeTo = (path: string, notice: () => void) => {
    const set = this.of.get(path) ?? new Set();
    this.of.set(path, set.add(notice));
    return () => {
      set.delete(notice);
      if (set.size === 0) this.of.delete(path);
    };
  };

  /** Forgets everything, as when somebody else logs in. */
  reset() {
    this.values = new Map();
    this.standing = "connecting";
    this.listVersion++;
    this.changed();
    if (this.users > 0) {
      this.close();
      this.open();
    }
  }

  private open() {
    const stream = new EventSource("/api/v1/stream?brief=true");
    this.stream = stream;
    stream.addEventListener("now", (event: MessageEvent<string>) => this.take(JSON.parse(event.data) as Now));
    stream.onerror = () => {
      this.stand("lost");
      if (stream.readyState !== EventSource.CLOSED) return; // the browser tries again by itself
      // It was refused, or what stands before the service answered instead: the session may
      // be over, or the service away for a while.
      sessionEnded.tell();
      clearTimeout(this.retry);
      this.retry = setTimeout(() => {
        if (this.stream === stream) this.open();
      }, this.pause);
      this.pause = Math.min(10_000, this.pause * 2);
    };
  }

  /** Takes what was asked for before the console itself had come. */
  async takeEarly() {
    const answer = await takeEarly("now");
    if (!answer?.ok) return;
    const now = (await answer.json().catch(() => null)) as Now | null;
    if (now && this.standing === "connecting") this.take(now);
  }

  private readonly close = () => {
    clearTimeout(this.retry);
    this.stream?.close();
    this.stream = null;
  };

  private take(now: Now) {
    heardClock(Date.parse(now.at));
    this.heard = Date.now();
    this.pause = 1000;
    const before = this.values.size;
    for (const v of now.values) this.values.set(v.path, v);
    if (this.values.size !== before) this.listVersion++;
    this.standing = "live";
    for (const v of now.values) this.of.get(v.path)?.forEach((notice) => notice());
    this.changed();
  }

  private stand(standing: Standing) {
    if (this.standing === standing) return;
    this.standing = standing;
    this.changed();
  }

  private changed() {
    this.any.forEach((notice) => notice());
  }
}

export const live = new LiveStore();
