import { plural } from "./text";

const W = 240;
const H = 26;

/** Two counts over time for lists, one on the other, without words: the lower deep, the upper pale. */
export function SmallArea({ lower, upper, label }: { lower: number[]; upper: number[]; label: string }) {
  const totals = lower.map((count, i) => count + (upper[i] ?? 0));
  const most = Math.max(1, ...totals);
  const filled = (counts: number[]) => {
    const points = counts.map(
      (count, i) =>
        `${((i / Math.max(1, counts.length - 1)) * W).toFixed(1)} ${(H - (count / most) * (H - 2)).toFixed(1)}`,
    );
    return `M0 ${H} L${points.join(" L")} L${W} ${H}z`;
  };
  if (!totals.some((count) => count > 0)) return null;
  return (
    <svg
      viewBox={`0 0 ${W} ${H}`}
      className="h-6.5 w-full max-w-60 min-w-24"
      preserveAspectRatio="none"
      role="img"
      aria-label={label}
    >
      <path d={filled(totals)} fill="var(--depth-2)" />
      <path d={filled(lower)} fill="var(--depth-5)" />
    </svg>
  );
}

/** A line over time for lists: the newest version deep, all others pale. */
export function SmallTide({ current, older }: { current: number[]; older: number[] }) {
  const total = (current.at(-1) ?? 0) + (older.at(-1) ?? 0);
  const label = `${plural(total, "instance")} today, ${current.at(-1) ?? 0} of the newest version`;
  return <SmallArea lower={current} upper={older} label={label} />;
}
