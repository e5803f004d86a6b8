/** The marks of an axis or a ruler at round values, about so many of them. */
export function marksOf(low: number, high: number, most: number): number[] {
  const rough = (high - low) / Math.max(1, most);
  const size = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 5, 10].map((n) => n * size).find((s) => s >= rough) ?? 10 * size;
  const out: number[] = [];
  for (let k = Math.ceil(low / step); k * step <= high && out.length < 100; k++)
    out.push(Number((k * step).toPrecision(12)));
  return out;
}
