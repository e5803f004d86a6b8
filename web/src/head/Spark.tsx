interface Props {
  values: (number | null)[];
  width: number;
  height: number;
}

/** A day as a line without axes. */
export function Spark({ values, width, height }: Props) {
  const known = values.filter((v): v is number => v !== null);
  if (known.length < 2) return <svg width={width} height={height} aria-hidden />;
  const low = Math.min(...known);
  const range = Math.max(...known) - low || 1;
  const step = width / Math.max(1, values.length - 1);
  let path = "";
  let drawing = false;
  for (const [i, v] of values.entries()) {
    if (v === null) {
      drawing = false;
      continue;
    }
    path += `${drawing ? "L" : "M"}${(i * step).toFixed(1)} ${(height - 2 - ((v - low) / range) * (height - 4)).toFixed(1)}`;
    drawing = true;
  }
  return (
    <svg width={width} height={height} aria-hidden className="shrink-0">
      <path d={path} fill="none" stroke="var(--water)" strokeWidth="1.4" strokeLinejoin="round" />
    </svg>
  );
}
