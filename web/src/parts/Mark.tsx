/** A state in words and colour; never in colour alone. */
export function Mark({ look, children }: { look: "good" | "stale" | "bad"; children: string }) {
  const looks = {
    good: "text-good",
    stale: "bg-stale-wash text-stale px-1.5",
    bad: "bg-bad-wash text-bad px-1.5",
  };
  return <span className={`rounded-sheet whitespace-nowrap ${looks[look]}`}>{children}</span>;
}
