import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";
import { ask, type Unit } from "./api/client";
import { usePreferences } from "./preferences";

/** How values of a unit are shown. */
export interface Shown {
  /** What is asked of the service; empty: as it is. */
  symbol: string;
  written: string;
  scale: number;
  offset: number;
}

export type UnitsOf = (symbol: string) => Shown;

/** The units as this viewer likes them; the service says how people write each, and how one
 *  becomes another. */
export function useUnits(): { of: UnitsOf; all: Unit[] } {
  const { units } = usePreferences();
  const answer = useQuery({
    queryKey: ["units"],
    queryFn: () => ask("units"),
    staleTime: 300_000,
  });
  const all = answer.data?.units;
  return useMemo(() => {
    const known = new Map((all ?? []).map((u) => [u.symbol, u]));
    const others = new Map((all ?? []).flatMap((u) => u.to.map((c) => [c.symbol, c.written] as const)));
    const of = (symbol: string): Shown => {
      const unit = known.get(symbol);
      const liked = unit?.to.find((c) => c.symbol === units[symbol]);
      if (liked) return liked;
      return { symbol: "", written: unit?.written ?? others.get(symbol) ?? symbol, scale: 1, offset: 0 };
    };
    return { of, all: all ?? [] };
  }, [all, units]);
}

export const convert = (value: number | null | undefined, to: Shown) =>
  value === null || value === undefined ? null : value * to.scale + to.offset;
