import { scaleLinear, scaleUtc } from "d3-scale";
import { area, curveMonotoneX, line as path } from "d3-shape";
import { useState } from "react";
import type { Schema } from "~/api/client";
import { day } from "./text";
import { AHEAD, at, stacked, type Stacked } from "./tide-bands";
import { Ahead, BandName, Ends, Releases } from "./tide-marks";

type History = Schema["History"];

const W = 880;
const H = 330;
const EDGE = { top: 22, bottom: 46, left: 8, right: 44 };

/** A line over time: which version runs where is one look. */
export function TideChart({ history }: { history: History }) {
  const [seen, setSeen] = useState<number | null>(null);
  const bands = stacked(history);
  const days = history.days.map(at);
  const last = days.length - 1;
  if (last < 1)
    return <p className="text-ink-2 py-4">Counts are taken once an hour; the drawing begins with the second day.</p>;
  const today = days[last]!;
  const total = (i: number) => bands.reduce((sum, band) => sum + (band.counts[i] ?? 0), 0);
  const most = Math.max(4, ...days.map((_, i) => total(i))) * 1.12;
  const x = scaleUtc([days[0]!, new Date(+today + AHEAD)], [EDGE.left, W - EDGE.right]);
  const y = scaleLinear([0, most], [H - EDGE.bottom, EDGE.top]);
  const shape = area<readonly [number, number]>(
    (_, i) => x(days[i]!),
    (d) => y(d[0]),
    (d) => y(d[1]),
  ).curve(curveMonotoneX);
  const edge = path<readonly [number, number]>(
    (_, i) => x(days[i]!),
    (d) => y(d[1]),
  ).curve(curveMonotoneX);
  const ends = history.bands
    .filter((b) => b.retire_on && +at(b.retire_on) <= +today + AHEAD)
    .map((b) => ({ ...b, on: at(b.retire_on!), running: b.counts[last] ?? 0 }));
  const look = (clientX: number, box: DOMRect) => {
    const when = +x.invert(((clientX - box.left) / box.width) * W);
    const place = days.findIndex((d) => +d >= when - 43_200_000);
    setSeen(when > +today + 43_200_000 ? null : place < 0 ? last : place);
  };
  const move = (by: number) => setSeen((now) => Math.min(last, Math.max(0, (now ?? last) + by)));
  return (
    <figure className="my-4 overflow-x-auto">
      <svg
        viewBox={`0 0 ${W} ${H}`}
        className="w-full min-w-[36rem] focus-visible:outline-2"
        role="img"
        tabIndex={0}
        aria-label={`Instances of each version of ${history.line} from ${day(history.days[0]!)} to today, ${total(last)} today. The table below says the same. Arrow keys read out a day.`}
        onMouseMove={(event) => look(event.clientX, event.currentTarget.getBoundingClientRect())}
        onMouseLeave={() => setSeen(null)}
        onBlur={() => setSeen(null)}
        onKeyDown={(event) => {
          if (event.key === "ArrowLeft") move(-1);
          else if (event.key === "ArrowRight") move(1);
          else return;
          event.preventDefault();
        }}
      >
        <g fontSize="13" fill="var(--ink-2)">
          {y
            .ticks(4)
            .filter((tick) => tick > 0 && Number.isInteger(tick))
            .map((tick) => (
              <g key={tick}>
                <line x1={EDGE.left} x2={W - EDGE.right} y1={y(tick)} y2={y(tick)} stroke="var(--hair)" />
                <text x={W - 4} y={y(tick) + 4} textAnchor="end">
                  {tick}
                </text>
              </g>
            ))}
          {x.ticks(7).map((tick) => (
            <g key={+tick}>
              <line x1={x(tick)} x2={x(tick)} y1={H - EDGE.bottom} y2={H - EDGE.bottom + 5} stroke="var(--rule)" />
              <text x={x(tick) + 3} y={H - 8}>
                {tick.toLocaleDateString("en-GB", {
                  day: tick.getUTCDate() === 1 ? undefined : "numeric",
                  month: "short",
                  timeZone: "UTC",
                })}
              </text>
            </g>
          ))}
        </g>
        {bands.map((band) => (
          <g key={band.number}>
            <path d={shape(band.spans) ?? ""} fill={band.depth} />
            <path d={edge(band.spans) ?? ""} fill="none" stroke="var(--paper)" strokeWidth="1.5" />
          </g>
        ))}
        {bands.map((band) => (
          <BandName key={band.number} band={band} x={(i) => x(days[i]!)} y={y} />
        ))}
        <Ahead bands={bands} last={last} x={x} y={y} today={today} />
        <line x1={EDGE.left} x2={W - EDGE.right} y1={y(0)} y2={y(0)} stroke="var(--ink)" strokeWidth="1.5" />
        <Releases bands={history.bands} first={days[0]!} x={x} y={y(0)} />
        <line x1={x(today)} x2={x(today)} y1={EDGE.top - 8} y2={y(0)} stroke="var(--ink)" strokeWidth="1.5" />
        <text
          x={x(today) - 6}
          y={EDGE.top - 8}
          dy="4"
          textAnchor="end"
          fontSize="13"
          fontWeight="600"
          fill="var(--ink)"
        >
          today {total(last)}
        </text>
        <Ends ends={ends} x={x} today={today} floor={y(0)} />
        {seen !== null && (
          <line
            x1={x(days[seen]!)}
            x2={x(days[seen]!)}
            y1={EDGE.top}
            y2={y(0)}
            stroke="var(--ink-3)"
            strokeDasharray="2 2"
          />
        )}
      </svg>
      <figcaption className="text-small text-ink-2 min-h-5" aria-live="polite">
        {seen !== null && <ReadOut day={history.days[seen]!} bands={bands} place={seen} />}
      </figcaption>
      <details className="text-small">
        <summary className="text-link">The same in numbers</summary>
        <Numbers history={history} bands={bands} />
      </details>
    </figure>
  );
}

function ReadOut({ day: iso, bands, place }: { day: string; bands: Stacked[]; place: number }) {
  const parts = bands.filter((band) => band.counts[place]).map((band) => `${band.counts[place]} of ${band.number}`);
  return `${day(iso)}: ${parts.length ? parts.join(", ") : "no instance"}`;
}

function Numbers({ history, bands }: { history: History; bands: Stacked[] }) {
  const rows = history.days.map((_, i) => i).filter((i) => (history.days.length - 1 - i) % 14 === 0);
  return (
    <table className="mt-1 text-left">
      <thead>
        <tr className="border-rule text-label text-ink-3 border-b">
          <th className="pr-5">day</th>
          {bands.map((band) => (
            <th key={band.number} className="pr-5 text-right">
              {band.number}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {rows.map((i) => (
          <tr key={i} className="border-hair border-b">
            <td className="pr-5">{day(history.days[i]!)}</td>
            {bands.map((band) => (
              <td key={band.number} className="pr-5 text-right tabular-nums">
                {band.counts[i]}
              </td>
            ))}
          </tr>
        ))}
      </tbody>
    </table>
  );
}
