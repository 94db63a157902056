import type { Schema } from "~/api/client";
import { Heading } from "~/parts/basics";
import { briefly, iec } from "~/parts/text";

type Figure = Schema["MachineFigure"];
type Curve = { name: string; of: (figure: Figure) => number };
type Plot = { title: string; unit: (value: number) => string; top?: number; curves: Curve[] };

const width = 260;
const height = 64;

/** How busy a run's machine was while its steps were done: four small plots over the same time. */
export function Figures({ figures, steps }: { figures: Figure[]; steps: Schema["BuildStep"][] }) {
  if (figures.length < 2) return null;
  const began = Date.parse(figures[0]!.at) - 1000 * figures[0]!.seconds;
  const whole = Math.max((Date.parse(figures.at(-1)!.at) - began) / 1000, 0.1);
  const x = (at: string) => ((Date.parse(at) - began) / 1000 / whole) * width;
  const begins = steps.filter((step) => step.started_at).map((step) => x(step.started_at!));
  const plots: Plot[] = [
    { title: "Processor", unit: percent, top: 1, curves: [{ name: "busy", of: (f) => f.processor }] },
    {
      title: "Memory",
      unit: iec,
      top: figures.at(-1)!.memory,
      curves: [{ name: "in use", of: (f) => f.memory_used }],
    },
    {
      title: "Disk, each second",
      unit: iec,
      curves: [
        { name: "written", of: (f) => f.written },
        { name: "read", of: (f) => f.read },
      ],
    },
    {
      title: "Network, each second",
      unit: iec,
      curves: [
        { name: "received", of: (f) => f.received },
        { name: "sent", of: (f) => f.sent },
      ],
    },
  ];
  return (
    <>
      <Heading>Its machine, in {briefly(whole)}</Heading>
      <div className="grid grid-cols-2 gap-x-8 gap-y-4 max-sm:grid-cols-1">
        {plots.map((plot) => (
          <Small key={plot.title} plot={plot} figures={figures} x={x} begins={begins} />
        ))}
      </div>
      <p className="text-small text-ink-2 mt-1">A step begins at each thin line.</p>
    </>
  );
}

const percent = (share: number) => `${Math.round(100 * share)} %`;

function Small({
  plot,
  figures,
  x,
  begins,
}: {
  plot: Plot;
  figures: Figure[];
  x: (at: string) => number;
  begins: number[];
}) {
  const most = (curve: Curve) => Math.max(...figures.map(curve.of));
  const top = plot.top ?? Math.max(...plot.curves.map(most), 1);
  const y = (value: number) => height - (Math.min(value, top) / top) * (height - 2);
  const dashed = (place: number) => (place ? " (dashed)" : "");
  const told = plot.curves.map((one, n) => `${one.name}${dashed(n)} at most ${plot.unit(most(one))}`).join(", ");
  return (
    <figure>
      <figcaption className="text-small">
        <span className="font-semibold">{plot.title}</span>
        <span className="text-ink-2 block">{told}</span>
      </figcaption>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        className="mt-1 h-16 w-full"
        preserveAspectRatio="none"
        role="img"
        aria-label={`${plot.title}: ${told}`}
      >
        {begins.map((at, place) => (
          <line key={place} x1={at} x2={at} y1={0} y2={height} className="stroke-hair" strokeWidth={1} />
        ))}
        {plot.curves.map((curve, place) => (
          <path
            key={curve.name}
            d={steps(figures, x, (figure) => y(curve.of(figure)))}
            className={place === 0 ? "fill-depth-2 stroke-ink-2" : "stroke-heed fill-none"}
            strokeWidth={1.25}
            strokeDasharray={place === 0 ? undefined : "3 2"}
            vectorEffect="non-scaling-stroke"
          />
        ))}
        <line x1={0} x2={width} y1={height} y2={height} className="stroke-ink-3" strokeWidth={1} />
      </svg>
    </figure>
  );
}

/** A figure holds for the time before it, so that the line goes in steps. */
function steps(figures: Figure[], x: (at: string) => number, y: (figure: Figure) => number): string {
  let from = 0;
  const parts = figures.map((figure) => {
    const to = x(figure.at);
    const part = `L${from.toFixed(1)} ${y(figure).toFixed(1)}L${to.toFixed(1)} ${y(figure).toFixed(1)}`;
    from = to;
    return part;
  });
  return `M0 ${height}${parts.join("")}L${from.toFixed(1)} ${height}Z`;
}
