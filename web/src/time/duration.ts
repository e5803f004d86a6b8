const units: Record<string, number> = {
  ms: 0.001,
  s: 1,
  m: 60,
  h: 3600,
  d: 86_400,
  w: 604_800,
  mo: 2_629_746,
  y: 31_556_952,
};

/** A duration as the service writes it, such as 15m, in seconds; months and years by their mean. */
export function seconds(duration: string): number {
  const [, n, unit] = /^(\d+)([a-z]+)$/.exec(duration) ?? [];
  return Number(n) * (units[unit ?? ""] ?? NaN);
}

/** A duration for people, such as 15 min. */
export function spoken(duration: string): string {
  const [, n, unit] = /^(\d+)([a-z]+)$/.exec(duration) ?? [];
  const names: Record<string, string> = { s: "s", m: "min", h: "h", d: "d", w: "w", mo: "mo", y: "y" };
  return unit && names[unit] ? `${n} ${names[unit]}` : duration;
}

/** A length of time for people: 45 s, 12 min, 3 h 20 min, 4 d 6 h. */
export function length(ms: number): string {
  const s = Math.max(0, Math.round(ms / 1000));
  if (s < 120) return `${s} s`;
  const m = Math.round(s / 60);
  if (m < 120) return `${m} min`;
  const h = Math.floor(m / 60);
  if (h < 48) return m % 60 ? `${h} h ${m % 60} min` : `${h} h`;
  const d = Math.floor(h / 24);
  return h % 24 ? `${d} d ${h % 24} h` : `${d} d`;
}
