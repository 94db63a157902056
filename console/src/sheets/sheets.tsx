import { Link } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { Empty, Heading, Loading, Moment, ProblemShown } from "~/parts/basics";
import { More, usePages } from "~/parts/paged";
import { Says } from "~/parts/sentence";
import { State } from "~/parts/state";
import { ChosenTable, Table } from "~/parts/table";
import { plural, span, to } from "~/parts/text";

type Run = Schema["BuildRun"];

/** Which sheets have run, how their last run ended, and every run. */
export function Component() {
  const pages = usePages(["builds"], (cursor) =>
    answer(http.GET("/api/v1/builds", { params: { query: { limit: 100, cursor } } })),
  );
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  const bySheet = new Map<string, Run[]>();
  for (const run of pages.rows) bySheet.set(run.sheet, [...(bySheet.get(run.sheet) ?? []), run]);
  const sheets = [...bySheet.entries()].map(([sheet, runs]) => ({ sheet, runs }));
  const failing = sheets.filter(({ runs }) => runs[0]?.state === "failed").map(({ sheet }) => sheet);
  return (
    <>
      <Says under={failing.length ? `The last run of ${failing.join(" and ")} failed.` : undefined}>
        {sheets.length
          ? `${plural(sheets.length, "build sheet")} ${sheets.length === 1 ? "has" : "have"} run here.`
          : "No build sheet has run here yet."}
      </Says>
      {sheets.length === 0 ? (
        <Empty>
          A build sheet is a file that says how a version is made. Run one with <code>bathotype build FILE</code>.
        </Empty>
      ) : (
        <>
          <Heading>Sheets</Heading>
          <Table
            label="Sheets"
            rows={sheets}
            id={({ sheet }) => sheet}
            columns={[
              { head: "sheet", cell: ({ sheet }) => <span className="font-semibold">{sheet}</span> },
              { head: "last runs", cell: ({ runs }) => <History runs={runs} /> },
              { head: "made last", cell: ({ runs }) => <Made run={runs.find((one) => one.state === "succeeded")} /> },
              { head: "began", cell: ({ runs }) => runs[0] && <Moment at={runs[0].created_at} /> },
            ]}
          />
          <Heading>Runs</Heading>
          <ChosenTable
            name="builds"
            label="Runs"
            rows={pages.rows}
            id={(run) => run.operation}
            columns={[
              {
                head: "run",
                cell: (run) => (
                  <Link to={to.operation(run.operation)} className="text-ink font-semibold whitespace-nowrap">
                    {run.sheet}
                  </Link>
                ),
              },
              {
                head: "state",
                cell: (run) => (
                  <>
                    <State state={run.state} />
                    {run.error && <span className="text-small text-ink-2 block">{run.error}</span>}
                  </>
                ),
                wide: true,
              },
              {
                head: "makes",
                cell: (run) =>
                  run.state === "succeeded" ? (
                    <Made run={run} />
                  ) : (
                    <span className="whitespace-nowrap">{run.reference}</span>
                  ),
              },
              {
                head: "from",
                cell: (run) => (
                  <Link to={to.version(run.base)} className="whitespace-nowrap">
                    {run.base}
                  </Link>
                ),
              },
              { head: "by", cell: (run) => run.created_by },
              { head: "began", cell: (run) => <Moment at={run.created_at} /> },
              { head: "took", cell: took },
            ]}
          />
          <More pages={pages} title="Earlier runs" />
        </>
      )}
    </>
  );
}

const took = (run: Run) => (run.ended_at ? span((Date.parse(run.ended_at) - Date.parse(run.created_at)) / 1000) : "");

function Made({ run }: { run?: Run }) {
  if (!run) return <span className="text-ink-3">nothing yet</span>;
  return (
    <Link to={to.version(run.reference)} className="whitespace-nowrap">
      {run.reference}
    </Link>
  );
}

/** The last runs of a sheet, the oldest first, each as the shape of its state. */
function History({ runs }: { runs: Run[] }) {
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
