import type { Schema } from "~/api/client";
import { Table } from "~/parts/table";
import { briefly } from "~/parts/text";

type Run = Schema["CheckRun"];

/** Every check of a run, with what was seen. */
export function Judged({ run }: { run: Run }) {
  return (
    <Table
      label="Checks"
      rows={run.judgements}
      id={(one) => one.id}
      columns={[
        { head: "check", cell: (one) => <span className="font-semibold">{one.id}</span> },
        {
          head: "result",
          cell: (one) =>
            one.passed ? (
              <span className="text-fair">passed</span>
            ) : (
              <span className="text-heed font-semibold">failed</span>
            ),
        },
        { head: "demands", cell: (one) => one.demands },
        {
          head: "seen",
          wide: true,
          cell: (one) => <span className="text-small text-ink-2 break-words whitespace-pre-wrap">{one.evidence}</span>,
        },
        {
          head: "after",
          number: true,
          cell: (one) => <span className="whitespace-nowrap">{briefly(one.seconds)}</span>,
        },
      ]}
    />
  );
}
