import { Link } from "../parts/Link";
import { timeOfDay } from "../time/format";
import { high } from "./fit";

interface Props {
  title: string;
  /** Which board and page of how many this is. */
  said: string;
  clock: number;
  zone: string;
  site: string;
}

/** The line above a board on a wall. */
export function Bar({ title, said, clock, zone, site }: Props) {
  return (
    <div
      className="flex items-baseline gap-4 overflow-hidden whitespace-nowrap text-soft"
      style={{ height: high.bar }}
    >
      <h1 className="text-2xl font-semibold text-ink">{title}</h1>
      <span className="min-w-0 truncate" data-turn>
        {said}
      </span>
      <span className="ml-auto flex items-baseline gap-3">
        <span className="text-2xl font-semibold text-ink">{timeOfDay(clock, zone)}</span>
        <span>{site}</span>
        <button type="button" onClick={() => void document.documentElement.requestFullscreen?.()}>
          Full screen
        </button>
        <Link to="/boards">Leave the wall</Link>
      </span>
    </div>
  );
}
