/** What a part shows while it loads: its frame, and never a zero. */
export function Waiting({ height = 80, children }: { height?: number; children?: string }) {
  return (
    <div
      role="status"
      className="absolute inset-0 grid place-items-center bg-[repeating-linear-gradient(90deg,var(--rule)_0_1px,transparent_1px_48px)] text-soft"
      style={{ minHeight: height }}
    >
      {children ?? "Loading …"}
    </div>
  );
}

/** The same for a whole page. */
export function PageWaiting({ children = "Loading …" }: { children?: string }) {
  return (
    <p role="status" className="mt-8 text-soft">
      {children}
    </p>
  );
}

/** What stands where there is nothing, and what would fill it. */
export function Nothing({ children }: { children: React.ReactNode }) {
  return <div className="mt-6 max-w-prose text-soft">{children}</div>;
}
