import type { Schema } from "~/api/client";

export const AHEAD = 50 * 86_400_000;
export const at = (iso: string) => new Date(`${iso}T00:00:00Z`);
const depths = ["var(--depth-5)", "var(--depth-3)", "var(--depth-2)", "var(--depth-1)"];

/** Stacks the versions of a line, newest at the bottom: for each day where a band begins and ends. */
export function stacked(history: Schema["History"]) {
  const shown = history.bands.filter((band) => band.counts.some((count) => count > 0)).reverse();
  const base = history.days.map(() => 0);
  return shown.map((band, place) => {
    const spans = band.counts.map((count, i) => {
      const from = base[i]!;
      base[i] = from + count;
      return [from, from + count] as const;
    });
    return { ...band, spans, depth: depths[Math.min(place, depths.length - 1)]!, dark: place === 0 };
  });
}

export type Stacked = ReturnType<typeof stacked>[number];
