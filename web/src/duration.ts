const units: Record<string, number> = { ms: 0.001, s: 1, m: 60, h: 3600, d: 86_400, w: 604_800 };

/** A duration as the service writes it, such as 15m, in seconds. */
export function seconds(duration: string): number {
  const [, n, unit] = /^(\d+)([a-z]+)$/.exec(duration) ?? [];
  return Number(n) * (units[unit ?? ""] ?? NaN);
}
