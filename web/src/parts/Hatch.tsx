/** What is stale, or missing, is hatched: fill="url(#hatch)". It stands once, for all drawings of a page. */
export function Hatch() {
  return (
    <svg width="0" height="0" aria-hidden className="absolute" id="hatching">
      <defs>
        <pattern id="hatch" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" fill="var(--paper)" />
          <line x1="0" y1="0" x2="0" y2="6" stroke="var(--soft)" strokeWidth="1.2" opacity="0.6" />
        </pattern>
      </defs>
    </svg>
  );
}
