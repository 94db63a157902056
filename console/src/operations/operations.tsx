import { Link, useSearchParams } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import type { paths } from "~/api/schema";
import { Empty, Loading, Moment, ProblemShown } from "~/parts/basics";
import { Choice } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { Bar, titleOf, told } from "~/parts/progress";
import { Says } from "~/parts/sentence";
import { useOrder } from "~/parts/sorted";
import { State } from "~/parts/state";
import { ChosenTable } from "~/parts/table";
import { plural, span, to } from "~/parts/text";

type Operation = Schema["Operation"];
type Sort = NonNullable<paths["/api/v1/operations"]["get"]["parameters"]["query"]>["sort"];
const sorts = ["started", "subject", "state", "by"];
const kinds = [
  "capture",
  "capture-plan",
  "import",
  "edit",
  "adopt",
  "build",
  "prove",
  "launch",
  "change-instances",
  "replicate",
  "drain",
  "verify",
  "purge",
];
const states = ["queued", "running", "succeeded", "failed", "cancelled"] as const;

export function Component() {
  const [search, setSearch] = useSearchParams();
  const state = states.find((one) => one === search.get("state"));
  const kind = search.get("kind") ?? "";
  const order = useOrder<NonNullable<Sort>>(sorts, "-started");
  const { sort } = order;
  const pages = usePages(["operations", state ?? "", kind, sort], (cursor) =>
    answer(
      http.GET("/api/v1/operations", {
        params: { query: { state, kind: kind || undefined, sort, limit: 50, cursor, total: !cursor } },
      }),
    ),
  );
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  const { rows } = pages;
  const now = rows.filter((one) => !one.ended_at).length;
  const failed = rows.filter((one) => one.state === "failed").length;
  const change = (given: Record<string, string>) => {
    const next = { state: state ?? "", kind, sort: search.get("sort") ?? "", ...given };
    setSearch(Object.fromEntries(Object.entries(next).filter(([, value]) => value)), { replace: true });
  };
  return (
    <>
      <Says>{`${now ? plural(now, "operation") : "Nothing"} ${now > 1 ? "go" : "goes"} on now; ${failed} of the ${rows.length} shown failed.`}</Says>
      <div className="mt-4 grid max-w-md grid-cols-2 gap-x-4">
        <Choice
          label="State"
          value={state ?? ""}
          onChange={(e) => change({ state: e.target.value })}
          options={[["", "any"], ...states.map((s): [string, string] => [s, s])]}
        />
        <Choice
          label="Kind"
          value={kind}
          onChange={(e) => change({ kind: e.target.value })}
          options={[["", "any"], ...kinds.map((k): [string, string] => [k, k.replace("-", " ")])]}
        />
      </div>
      {rows.length ? (
        <ChosenTable
          name="operations"
          label="Operations"
          rows={rows}
          id={(operation) => operation.id}
          order={order}
          columns={[
            {
              head: "operation",
              sort: "subject",
              cell: (operation) => (
                <Link to={to.operation(operation.id)} className="text-ink font-semibold">
                  {titleOf(operation)}
                </Link>
              ),
            },
            { head: "state", sort: "state", cell: (operation) => <State state={operation.state} /> },
            { head: "progress", wide: true, cell: (operation) => <How operation={operation} /> },
            {
              head: "by",
              sort: "by",
              cell: (operation) => <span className="whitespace-nowrap">{operation.created_by}</span>,
            },
            {
              head: "begun",
              sort: "started",
              cell: (operation) => (
                <span className="whitespace-nowrap">
                  <Moment at={operation.created_at} />
                </span>
              ),
            },
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
        <Empty>{state || kind ? "No operation fits." : "No operation has run yet."}</Empty>
      )}
      <More pages={pages} title="Earlier ones" />
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
