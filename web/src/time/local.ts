import { clockAt, timeOf } from "./zone";

const two = (n: number) => String(n).padStart(2, "0");

/** A time as the field for it wants it, by the clocks of a zone. */
export function localText(ms: number, zone: string): string {
  const c = clockAt(ms, zone);
  return `${String(c.year).padStart(4, "0")}-${two(c.month)}-${two(c.day)}T${two(c.hour)}:${two(c.minute)}:${two(c.second)}`;
}

export function readLocal(text: string, zone: string): number {
  const [date = "", clock = ""] = text.split("T");
  const [year = NaN, month = NaN, day = NaN] = date.split("-").map(Number);
  const [hour = 0, minute = 0, second = 0] = clock.split(":").map(Number);
  return timeOf(zone, year, month, day, hour, minute, second);
}
