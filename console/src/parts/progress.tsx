import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { iec, moment, span, to } from "./text";

type Operation = Schema["Operation"];

const doing: Record<string, string> = {
  capture: "Capture of",
  "capture-plan": "Plan of a capture of",
  launch: "Launch of",
  replicate: "Replicating",
  verify: "Checking",
  import: "Import of",
  edit: "Edit of",
  purge: "Purging",
  export: "Export of",
  "export-digest": "Digest of an export of",
  "bucket-digest": "Digest of",
  "event-check": "Check of",
  drain: "Removing from a region:",
  adopt: "Taking over",
  build: "Build of",
  prove: "Proving",
};

/** What an operation does, as a title.  The subject of a change of many instances says all. */
export function titleOf({ kind, subject }: Operation): string {
  if (kind === "change-instances") return `${subject[0]?.toUpperCase()}${subject.slice(1)}`;
  return `${doing[kind] ?? kind} ${subject}`;
}

/** A bar that is also read out. */
export function Bar({ percent, label }: { percent: number; label: string }) {
  return (
    <div
      role="progressbar"
      aria-label={label}
      aria-valuemin={0}
      aria-valuemax={100}
      aria-valuenow={Math.round(percent)}
      className="bg-depth-1 my-1 h-1.5 rounded-full"
    >
      <div
        className="bg-depth-4 h-full rounded-full transition-[width] duration-300"
        style={{ width: `${percent}%` }}
      />
    </div>
  );
}

/** What the running step does, in words. */
export function told(operation: Operation): string {
  if (operation.state === "queued") return `It ${waits(operation)}.`;
  const step = operation.steps.find((s) => s.state === "running");
  if (!step) return operation.state;
  // Steps that make machines count machines, and no step that counts bytes has so few.
  const shown = step.bytes_total < 1024 ? String : iec;
  const bytes = step.bytes_total ? `: ${shown(step.bytes_done)} of ${shown(step.bytes_total)}` : "";
  const left = operation.eta ? `, ${span(operation.eta)} left` : "";
  return `${step.title}${bytes}${left}`;
}

/** What an operation that has not begun waits for: its moment, or a worker. */
export function waits(operation: Operation): string {
  const start = operation.start_at;
  return start && Date.parse(start) > Date.now() ? `waits until ${moment(start)}` : "waits for a worker";
}

/** One operation as it goes on. */
export function Going({ operation: given }: { operation: Operation }) {
  const { data = given } = useQuery({ ...ask.operation(given.id), initialData: given, staleTime: 5000 });
  return (
    <li className="mb-4">
      <Link to={to.operation(data.id)} className="text-ink font-semibold">
        {titleOf(data)}
      </Link>
      <Bar percent={data.percent} label={titleOf(data)} />
      <p className="text-small text-ink-2">{told(data)}</p>
    </li>
  );
}

export function GoingOn({ operations }: { operations: Operation[] }) {
  return (
    <section aria-label="Going on now">
      <h2 className="text-label text-ink-2 mb-1.5 font-semibold">Going on now</h2>
      {operations.length ? (
        <ul>
          {operations.map((operation) => (
            <Going key={operation.id} operation={operation} />
          ))}
        </ul>
      ) : (
        <p className="text-small text-ink-2">
          Nothing runs. <Link to="/operations">Earlier operations</Link>
        </p>
      )}
    </section>
  );
}
