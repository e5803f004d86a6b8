/** A range of time: the last so much up to now, or from and to in ms since 1970. */
export type Range =
  { last: string; from?: undefined; to?: undefined } | { last?: undefined; from: number; to: number };

export const lasts = [
  { last: "1h", label: "1 hour" },
  { last: "6h", label: "6 hours" },
  { last: "1d", label: "1 day" },
  { last: "3d", label: "3 days" },
  { last: "1w", label: "1 week" },
];
