import { Link } from "react-router";
import { answer, http } from "~/api/client";
import { Empty, Heading, Loading, Moment, ProblemShown } from "~/parts/basics";
import { More, usePages } from "~/parts/paged";
import { Table } from "~/parts/table";
import { briefly, plural, to } from "~/parts/text";
import { Judged } from "~/sheets/judged";

/** What the last checks of a version saw, and every run of them. */
export function Checks({ reference }: { reference: string }) {
  const pages = usePages(["checks", reference], (cursor) =>
    answer(
      http.GET("/api/v1/versions/{reference}/checks", {
        params: { path: { reference }, query: { limit: 50, cursor } },
      }),
    ),
  );
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  const last = pages.rows.find((run) => run.instance === null && run.passed !== null);
  if (!pages.rows.length)
    return <Empty>It has not been proven yet. Checks are judged on a throwaway instance of it.</Empty>;
  return (
    <>
      {last && (
        <>
          <p className="mb-2">
            {last.passed
              ? `All ${plural(last.judgements.length, "check")} passed`
              : `${plural(last.judgements.filter((one) => !one.passed).length, "check")} of ${last.judgements.length} did not pass`}{" "}
            on a throwaway instance, {last.machine_size} in {last.region}
            {last.boot_seconds === null ? "" : `, whose first boot took ${briefly(last.boot_seconds)}`}.
          </p>
          <Judged run={last} />
        </>
      )}
      <Heading>Runs</Heading>
      <Table
        label="Runs of checks"
        rows={pages.rows}
        id={(run) => run.operation}
        columns={[
          {
            head: "run",
            cell: (run) => (
              <Link to={to.operation(run.operation)} className="text-ink font-semibold">
                {run.passed === null ? run.state : run.passed ? "passed" : "failed"}
              </Link>
            ),
          },
          { head: "judged", cell: (run) => run.instance ?? "a throwaway instance" },
          { head: "checks", number: true, cell: (run) => run.judgements.length || "" },
          { head: "region", cell: (run) => run.region },
          { head: "at", cell: (run) => <Moment at={run.at} /> },
        ]}
      />
      <More pages={pages} title="Earlier runs" />
    </>
  );
}
