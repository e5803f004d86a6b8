/** Directions without the jump over north: each is drawn as the turn from the one before that is
 *  shorter, so that 359° and 1° are neighbours. A gap begins anew. */
export function unwrapped(degrees: (number | null)[]): (number | null)[] {
  let turns = 0;
  let before: number | null = null;
  return degrees.map((d) => {
    if (d === null) {
      return null;
    }
    if (before !== null) {
      const step: number = d - before;
      if (step > 180) turns -= 360;
      if (step < -180) turns += 360;
    }
    before = d;
    return d + turns;
  });
}

/** Directions by so many whole turns more or less as bring them nearest to others: 350° and 10° are
 *  drawn beside one another, whichever way each came there. */
export function beside(degrees: (number | null)[], others: (number | null)[]): (number | null)[] {
  const turns = Math.round((middle(others) - middle(degrees)) / 360);
  return turns ? degrees.map((d) => (d === null ? null : d + 360 * turns)) : degrees;
}

function middle(degrees: (number | null)[]): number {
  const known = degrees.filter((d) => d !== null);
  return known.length === 0 ? 0 : known.reduce((sum, d) => sum + d, 0) / known.length;
}

const names = ["N", "NE", "E", "SE", "S", "SW", "W", "NW"];

/** The point of the compass nearest to a direction. */
export function compass(degrees: number): string {
  const eighth = Math.round((((degrees % 360) + 360) % 360) / 45) % 8;
  return names[eighth] ?? "N";
}

/** Where the axis of directions has its marks: each quarter of the compass within two ends. */
export function quarters(low: number, high: number): number[] {
  const step = high - low > 720 ? 180 : high - low > 200 ? 90 : 45;
  const out: number[] = [];
  for (let at = Math.ceil(low / step) * step; at <= high; at += step) out.push(at);
  return out;
}
