import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { Moment } from "~/parts/basics";
import { State } from "~/parts/state";
import type { Column } from "~/parts/table";
import { span, to } from "~/parts/text";
import { Base } from "~/sheets/base";

type Run = Schema["BuildRun"];
const causes = { "": "", schedule: "its date", base: "its base moved", push: "a push" };

export const took = (run: Run) =>
  run.ended_at ? span((Date.parse(run.ended_at) - Date.parse(run.created_at)) / 1000) : "";

/** What is shown of a run; `named` says by what its first column is called. */
export function runColumns(named: "sheet" | "reference"): Column<Run>[] {
  return [
    {
      head: "run",
      cell: (run) => (
        <Link to={to.operation(run.operation)} className="text-ink font-semibold whitespace-nowrap">
          {run[named]}
        </Link>
      ),
    },
    {
      head: "state",
      cell: (run) => (
        <>
          <State state={run.state} />
          {run.error && <span className="text-small text-ink-2 block">{run.error}</span>}
          {run.held_back && <span className="text-small text-heed block">It stays staged: {run.held_back}</span>}
        </>
      ),
      wide: true,
    },
    ...(named === "sheet" ? [{ head: "makes", cell: (run: Run) => <Made run={run} /> }] : []),
    {
      head: "from",
      cell: (run) => (
        <span className="whitespace-nowrap">
          <Base name={run.base} />
        </span>
      ),
    },
    {
      head: "by",
      cell: (run) => <span className="whitespace-nowrap">{causes[run.cause ?? ""] || run.created_by}</span>,
    },
    {
      head: "began",
      cell: (run) => (
        <span className="whitespace-nowrap">
          <Moment at={run.created_at} />
        </span>
      ),
    },
    { head: "took", cell: (run) => <span className="whitespace-nowrap">{took(run)}</span> },
  ];
}

/** The version of a run, as a link once it is there. */
export function Made({ run }: { run?: Run }) {
  if (!run) return <span className="text-ink-3">nothing yet</span>;
  if (run.state !== "succeeded") return <span className="whitespace-nowrap">{run.reference}</span>;
  return (
    <Link to={to.version(run.reference)} className="whitespace-nowrap">
      {run.reference}
    </Link>
  );
}

/** The last runs of a sheet, the oldest first, each as the shape of its state. */
export function History({ runs }: { runs: Run[] }) {
  if (!runs.length) return <span className="text-ink-3">none yet</span>;
  return (
    <ol className="flex flex-wrap gap-x-3" aria-label="Last runs">
      {runs
        .slice(0, 8)
        .reverse()
        .map((run) => (
          <li key={run.operation}>
            <Link to={to.operation(run.operation)} className="text-ink">
              <State state={run.state}>{run.ended_at ? ` ${took(run)}` : ""}</State>
            </Link>
          </li>
        ))}
    </ol>
  );
}
