import { useNavigate } from "react-router";
import { day, daysTo, to } from "~/parts/text";

const W = 880;
const ROW = 40;

/** Dates as flags over the months ahead; the list under it says the same. */
export type Flag = { reference: string; on: string; what: "retires" | "may be purged" };

export function TimeLine({ flags }: { flags: Flag[] }) {
  const go = useNavigate();
  const ahead = Math.max(60, ...flags.map((flag) => daysTo(flag.on) + 25));
  const x = (days: number) => 12 + (days / ahead) * (W - 24);
  const rows: number[] = [];
  const placed = flags.map((flag) => {
    const left = x(daysTo(flag.on));
    let row = rows.findIndex((end) => left > end);
    if (row < 0) row = rows.push(0) - 1;
    rows[row] = left + 240;
    return { flag, left, row };
  });
  const floor = 24 + rows.length * ROW;
  const months = [];
  for (let at = new Date(); ;) {
    at = new Date(Date.UTC(at.getUTCFullYear(), at.getUTCMonth() + 1, 1));
    const days = daysTo(at.toISOString());
    if (days > ahead) break;
    months.push({ days, name: at.toLocaleDateString("en-GB", { month: "short", timeZone: "UTC" }) });
  }
  return (
    <svg
      viewBox={`0 0 ${W} ${floor + 28}`}
      className="my-4 w-full max-w-[56rem] max-sm:hidden"
      role="img"
      aria-label={`Dates ahead: ${flags.map((flag) => `${flag.reference} on ${day(flag.on)}`).join(", ")}`}
    >
      <line x1={12} x2={W - 12} y1={floor} y2={floor} stroke="var(--ink)" strokeWidth="1.5" />
      {months.map((month) => (
        <g key={month.days}>
          <line x1={x(month.days)} x2={x(month.days)} y1={floor} y2={floor + 6} stroke="var(--ink-3)" />
          <text x={x(month.days) + 3} y={floor + 20} fontSize="13" fill="var(--ink-2)">
            {month.name}
          </text>
        </g>
      ))}
      <text x={12} y={floor + 20} fontSize="13" fontWeight="600" fill="var(--ink)">
        today
      </text>
      {placed.map(({ flag, left, row }) => {
        const height = 18 + row * ROW;
        const flip = left > W - 240;
        return (
          <g
            key={`${flag.reference} ${flag.what}`}
            fill="var(--heed)"
            fontSize="13"
            className="cursor-pointer"
            onClick={() => void go(to.version(flag.reference))}
          >
            <line
              x1={left}
              x2={left}
              y1={floor}
              y2={height - 10}
              stroke="var(--heed)"
              strokeDasharray="4 3"
              strokeWidth="1.4"
            />
            <text
              x={flip ? left - 6 : left + 6}
              y={height}
              textAnchor={flip ? "end" : "start"}
              stroke="var(--paper)"
              strokeWidth="3"
              paintOrder="stroke"
            >
              <tspan fontWeight="600">{flag.reference}</tspan>
              <tspan x={flip ? left - 6 : left + 6} dy="16">
                {flag.what} {day(flag.on)}
              </tspan>
            </text>
          </g>
        );
      })}
    </svg>
  );
}
