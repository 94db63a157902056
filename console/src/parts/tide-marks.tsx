import type { Schema } from "~/api/client";
import { day } from "./text";
import { AHEAD, at, type Stacked } from "./tide-bands";

type History = Schema["History"];
type Scale = (value: number) => number;

/** A version's number inside its band, at its widest place, if there is room. */
export function BandName({ band, x, y }: { band: Stacked; x: (i: number) => number; y: Scale }) {
  let widest = 0;
  band.spans.forEach((s, i) => {
    const now = band.spans[widest]!;
    if (s[1] - s[0] > now[1] - now[0]) widest = i;
  });
  const [from, until] = band.spans[widest]!;
  if (y(from) - y(until) < 18) return null;
  const left = Math.min(Math.max(x(widest), 26), x(band.spans.length - 1) - 22);
  return (
    <text
      x={left}
      y={(y(from) + y(until)) / 2 + 4}
      textAnchor="middle"
      fontSize="13"
      fontWeight="600"
      fill={band.dark ? "var(--paper)" : "var(--ink)"}
    >
      {band.number}
    </text>
  );
}

/** The future as a dotted line: the course of the last three weeks, carried on. */
export function Ahead({
  bands,
  last,
  x,
  y,
  today,
}: {
  bands: Stacked[];
  last: number;
  x: (d: Date) => number;
  y: Scale;
  today: Date;
}) {
  const newest = bands[0];
  const top = bands.at(-1);
  const until = new Date(+today + AHEAD);
  const back = Math.max(0, last - 21);
  return [newest, top].map((band, place) => {
    if (!band || (place === 1 && band === newest)) return null;
    const now = band.spans[last]![1];
    const slope = (now - band.spans[back]![1]) / Math.max(1, last - back);
    const then = Math.max(
      now * 0.8,
      Math.min(now + slope * 50, place === 0 && top ? top.spans[last]![1] * 0.97 : Infinity),
    );
    return (
      <line
        key={place}
        x1={x(today)}
        y1={y(now)}
        x2={x(until)}
        y2={y(then)}
        stroke="var(--depth-4)"
        strokeWidth="2"
        strokeDasharray="2 4"
      />
    );
  });
}

type End = { number: string; on: Date; retire_on: string | null; running: number };

/** Dates that cut something off, as flags; beside today's line the words stand on the far side. */
export function Ends({ ends, x, today, floor }: { ends: End[]; x: (d: Date) => number; today: Date; floor: number }) {
  return ends.map((end, place) => {
    const left = x(end.on);
    const near = left - x(today) < 120;
    const text = near ? left + 6 : left - 6;
    return (
      <g key={end.number}>
        <line
          x1={left}
          x2={left}
          y1={floor}
          y2={46 + place * 44}
          stroke="var(--heed)"
          strokeDasharray="4 3"
          strokeWidth="1.4"
        />
        <text
          x={text}
          y={56 + place * 44}
          textAnchor={near ? "start" : "end"}
          fontSize="13"
          fill="var(--heed)"
          stroke="var(--paper)"
          strokeWidth="3"
          paintOrder="stroke"
        >
          <tspan fontWeight="600">{end.number} retires</tspan>
          <tspan x={text} dy="17">
            {day(end.retire_on ?? "")}, {end.running} run it
          </tspan>
        </text>
      </g>
    );
  });
}

export function Releases({
  bands,
  first,
  x,
  y,
}: {
  bands: History["bands"];
  first: Date;
  x: (d: Date) => number;
  y: number;
}) {
  let free = -Infinity;
  return bands
    .filter((band) => band.released_on && at(band.released_on) >= first)
    .map((band) => {
      const left = x(at(band.released_on!));
      const room = left > free;
      if (room) free = left + 58;
      return (
        <g key={band.number} fill="var(--ink)">
          <path d={`M${left} ${y + 4}l5 9h-10z`} />
          {room && (
            <text x={left + 9} y={y + 15} fontSize="13" fontWeight="600">
              {band.number}
            </text>
          )}
        </g>
      );
    });
}
