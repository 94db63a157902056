import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Empty, Loading, Moment, ProblemShown } from "~/parts/basics";
import { Choice } from "~/parts/form";
import { Bar, titleOf, told } from "~/parts/progress";
import { Says } from "~/parts/sentence";
import { State } from "~/parts/state";
import { Table } from "~/parts/table";
import { plural, span, to } from "~/parts/text";

type Operation = Schema["Operation"];
const states = ["queued", "running", "succeeded", "failed", "cancelled"] as const;

export function Component() {
  const [search, setSearch] = useSearchParams();
  const state = states.find((one) => one === search.get("state"));
  const { data, error } = useQuery(ask.operations(state));
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const now = data.items.filter((one) => !one.ended_at).length;
  const failed = data.items.filter((one) => one.state === "failed").length;
  return (
    <>
      <Says>{`${plural(now, "operation")} ${now === 1 ? "goes" : "go"} on now; ${failed} of the last ${data.items.length} failed.`}</Says>
      <div className="mt-4 w-56">
        <Choice
          label="State"
          value={state ?? ""}
          onChange={(e) => setSearch(e.target.value ? { state: e.target.value } : {}, { replace: true })}
          options={[["", "any"], ...states.map((s): [string, string] => [s, s])]}
        />
      </div>
      {data.items.length ? (
        <Table
          label="Operations"
          rows={data.items}
          id={(operation) => operation.id}
          columns={[
            {
              head: "operation",
              cell: (operation) => (
                <Link to={to.operation(operation.id)} className="text-ink font-semibold">
                  {titleOf(operation)}
                </Link>
              ),
            },
            { head: "state", cell: (operation) => <State state={operation.state} /> },
            { head: "progress", wide: true, cell: (operation) => <How operation={operation} /> },
            { head: "by", cell: (operation) => operation.created_by },
            { head: "begun", cell: (operation) => <Moment at={operation.created_at} /> },
            {
              head: "took",
              number: true,
              cell: (operation) =>
                operation.started_at && operation.ended_at
                  ? span((Date.parse(operation.ended_at) - Date.parse(operation.started_at)) / 1000)
                  : "",
            },
          ]}
        />
      ) : (
        <Empty>No operation {state ? `is ${state}` : "has run yet"}.</Empty>
      )}
      {data.next && <p className="text-ink-2 py-2">The newest 100 are shown. Earlier ones are in the ledger.</p>}
    </>
  );
}

function How({ operation }: { operation: Operation }) {
  if (operation.error) return <span className="text-ink-2">{operation.error.message}</span>;
  if (operation.ended_at) return null;
  return (
    <>
      <Bar percent={operation.percent} label={titleOf(operation)} />
      <span className="text-small text-ink-2">{told(operation)}</span>
    </>
  );
}
