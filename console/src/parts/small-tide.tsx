import { plural } from "./text";

const W = 240;
const H = 26;

/** A line over time for lists, without words: the newest version deep, all others pale. */
export function SmallTide({ current, older }: { current: number[]; older: number[] }) {
  const totals = current.map((count, i) => count + (older[i] ?? 0));
  const most = Math.max(1, ...totals);
  const filled = (counts: number[]) => {
    const points = counts.map(
      (count, i) =>
        `${((i / Math.max(1, counts.length - 1)) * W).toFixed(1)} ${(H - (count / most) * (H - 2)).toFixed(1)}`,
    );
    return `M0 ${H} L${points.join(" L")} L${W} ${H}z`;
  };
  if (!totals.some((count) => count > 0)) return null;
  const label = `${plural(totals.at(-1) ?? 0, "instance")} today, ${current.at(-1) ?? 0} of the newest version`;
  return (
    <svg
      viewBox={`0 0 ${W} ${H}`}
      className="h-6.5 w-full max-w-60 min-w-24"
      preserveAspectRatio="none"
      role="img"
      aria-label={label}
    >
      <path d={filled(totals)} fill="var(--depth-2)" />
      <path d={filled(current)} fill="var(--depth-5)" />
    </svg>
  );
}
