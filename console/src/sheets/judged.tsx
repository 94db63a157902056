import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Heading } from "~/parts/basics";
import { Table } from "~/parts/table";
import { briefly, to } from "~/parts/text";

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

/** What the checks of an operation saw; nothing where it has none. */
export function CheckResults({ operation }: { operation: string }) {
  const { data } = useQuery(ask.checks(operation));
  if (!data?.judgements.length) return null;
  return (
    <>
      <Heading>Checks</Heading>
      <Judged run={data} />
    </>
  );
}

/** The operations that judge what a run has made, where its sheet names several places. */
export function Proofs({ run }: { run: string }) {
  const { data } = useQuery(ask.build(run));
  return data?.proofs.map((operation) => <Proof key={operation} operation={operation} />);
}

function Proof({ operation }: { operation: string }) {
  const { data } = useQuery(ask.checks(operation));
  if (!data) return null;
  return (
    <>
      <Heading>
        Checks in {data.region} on {data.machine_size}
      </Heading>
      {data.judgements.length ? (
        <Judged run={data} />
      ) : (
        <p>
          <Link to={to.operation(operation)}>They are {data.state}.</Link>
        </p>
      )}
    </>
  );
}
