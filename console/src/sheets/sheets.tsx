import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { answer, http } from "~/api/client";
import { useSession } from "~/app/session";
import { Button, Empty, Heading, Loading, ProblemShown } from "~/parts/basics";
import { More, usePages } from "~/parts/paged";
import { Says } from "~/parts/sentence";
import { Table } from "~/parts/table";
import { ahead, plural, to } from "~/parts/text";
import { nextRun } from "./next-run";
import { Parts } from "./parts";
import { Repositories } from "./repositories";
import { Runs } from "./runs";
import { History, Made } from "./run-columns";
import { ChangeDialog } from "./change-dialog";

/** Which sheets there are, how their last runs ended, when each runs next, and every run. */
export function Component() {
  const { may } = useSession();
  const go = useNavigate();
  const [asked, setAsked] = useState(false);
  const saved = usePages(["saved-sheets"], (cursor) =>
    answer(http.GET("/api/v1/saved-sheets", { params: { query: { limit: 100, cursor, total: !cursor } } })),
  );
  if (saved.error) return <ProblemShown problem={saved.error} />;
  if (saved.pending) return <Loading />;
  const next = saved.rows
    .filter((sheet) => sheet.next_at && !sheet.paused)
    .sort((a, b) => a.next_at!.localeCompare(b.next_at!))[0];
  const failing = saved.rows.filter((sheet) => sheet.runs[0]?.state === "failed").map((sheet) => sheet.name);
  const count = saved.total ?? saved.rows.length;
  return (
    <>
      <Says under={failing.length ? `The last run of ${failing.join(" and ")} failed.` : undefined}>
        {count === 0
          ? "No build sheet is saved here yet."
          : `${plural(count, "build sheet")} ${count === 1 ? "is" : "are"} saved${next ? `; ${next.name} runs next, on ${ahead(next.next_at!)}` : ""}.`}
      </Says>
      {may("operate") && (
        <Button className="mt-4" onClick={() => setAsked(true)}>
          Write a sheet
        </Button>
      )}
      {count === 0 ? (
        <Empty>
          A build sheet is a file that says how a version is made. Keep one with <code>bathotype sheets save FILE</code>
          .
        </Empty>
      ) : (
        <>
          <Heading>Sheets</Heading>
          <Table
            label="Sheets"
            rows={saved.rows}
            id={(sheet) => sheet.name}
            columns={[
              {
                head: "sheet",
                cell: (sheet) => (
                  <Link to={to.sheet(sheet.name)} className="text-ink font-semibold whitespace-nowrap">
                    {sheet.name}
                  </Link>
                ),
              },
              {
                head: "from",
                cell: (sheet) => <span className="whitespace-nowrap">{sheet.base}</span>,
              },
              { head: "last runs", cell: (sheet) => <History runs={sheet.runs} /> },
              {
                head: "made last",
                cell: (sheet) => <Made run={sheet.runs.find((one) => one.state === "succeeded")} />,
              },
              {
                head: "runs next",
                wide: true,
                cell: (sheet) => (
                  <>
                    {nextRun(sheet)}
                    {sheet.noted && <span className="text-small text-ink-2 block">Last time: {sheet.noted}</span>}
                  </>
                ),
              },
            ]}
          />
          <More pages={saved} />
        </>
      )}
      <Parts />
      <Repositories />
      <Runs />
      {asked && (
        <ChangeDialog
          sheet={null}
          close={(name) => {
            setAsked(false);
            if (name) void go(to.sheet(name));
          }}
        />
      )}
    </>
  );
}
