const wanted = 16;

/** Bins of one round width that hold all values from the lowest to the highest. */
export function binsOf(low: number | null, high: number | null): [number, number][] {
  if (low === null || high === null) return [];
  const rough = (high - low || Math.abs(high) * 0.01 || 1) / wanted;
  const size = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((n) => n * size).find((s) => s >= rough) ?? 10 * size;
  const clean = (v: number) => Number(v.toPrecision(10));
  const out: [number, number][] = [];
  for (let k = Math.floor(low / step); k * step <= high && out.length < 40; k++)
    out.push([clean(k * step), clean((k + 1) * step)]);
  return out;
}
