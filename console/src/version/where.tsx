import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Button, Empty, Heading, Moment, ProblemShown } from "~/parts/basics";
import { Confirm, PlanShown } from "~/parts/dialog";
import { State } from "~/parts/state";
import { Table } from "~/parts/table";
import { to } from "~/parts/text";

/** In which regions its bytes are, who runs it, what forbids its purge. */
export function Where({ overview }: { overview: Schema["VersionOverview"] }) {
  const { reference } = overview.version;
  const own = !reference.includes("/");
  const replicas = useQuery({ ...ask.replicas(reference), enabled: own });
  const holds = useQuery({ ...ask.holds(reference), enabled: own });
  const { may } = useSession();
  const cache = useQueryClient();
  const [drained, setDrained] = useState("");
  const lift = async (name: string) => {
    await answer(http.DELETE("/api/v1/versions/{reference}/holds/{name}", { params: { path: { reference, name } } }));
    await cache.invalidateQueries();
  };
  return (
    <>
      <Heading>Regions</Heading>
      {replicas.data?.length ? (
        <Table
          label="Regions"
          rows={replicas.data}
          id={(replica) => replica.region}
          columns={[
            { head: "region", cell: (replica) => replica.region },
            { head: "state", cell: (replica) => <State state={replica.state} /> },
            {
              head: "launch-ready disks",
              number: true,
              cell: (replica) => `${replica.standing} of ${Math.max(replica.copies, replica.standing)}`,
            },
            {
              head: "zones",
              cell: (replica) =>
                Object.entries(replica.zones)
                  .map(([zone, count]) => `${zone} ${count}`)
                  .join(", "),
            },
            {
              head: "last checked",
              cell: (replica) => (replica.verified_at ? <Moment at={replica.verified_at} /> : "not yet"),
            },
            {
              head: "",
              cell: (replica) =>
                may("operate") &&
                replica.state === "ready" && (
                  <Button
                    kind="quiet"
                    onClick={() => setDrained(replica.region)}
                    aria-label={`Remove it from ${replica.region}`}
                  >
                    Remove
                  </Button>
                ),
            },
          ]}
        />
      ) : (
        <p className="py-2">{overview.version.regions.join(", ") || "In no region."}</p>
      )}
      {drained && <Drain reference={reference} region={drained} close={() => setDrained("")} />}
      <Heading>Who runs it</Heading>
      {overview.runs.length ? (
        <Table
          label="Who runs it"
          rows={overview.runs}
          id={(run) => `${run.account} ${run.region}`}
          columns={[
            { head: "account", cell: (run) => run.account },
            { head: "region", cell: (run) => run.region },
            { head: "running", number: true, cell: (run) => run.running },
          ]}
        />
      ) : (
        <Empty>No instance runs it.</Empty>
      )}
      {holds.data && holds.data.length > 0 && (
        <>
          <Heading>Holds, which forbid its purge</Heading>
          <ul>
            {holds.data.map((hold) => (
              <li key={hold.name} className="border-hair flex justify-between gap-4 border-b py-2">
                <span>
                  <span className="font-semibold">{hold.name}</span>: {hold.reason}{" "}
                  <span className="text-ink-2">
                    Placed by {hold.placed_by}, <Moment at={hold.placed_at} />.
                  </span>
                </span>
                {may("operate") && (
                  <Button kind="quiet" onClick={() => void lift(hold.name)} aria-label={`Lift the hold ${hold.name}`}>
                    Lift
                  </Button>
                )}
              </li>
            ))}
          </ul>
        </>
      )}
    </>
  );
}

/** Removes it from one region, once nothing there needs it. */
function Drain({ reference, region, close }: { reference: string; region: string; close: () => void }) {
  const cache = useQueryClient();
  const go = useNavigate();
  const params = { path: { reference }, query: { region } };
  const plan = useQuery({
    queryKey: ["drain-plan", reference, region],
    queryFn: () => answer(http.GET("/api/v1/versions/{reference}/drain-plan", { params })),
  });
  const act = async () => {
    const operation = await answer(http.POST("/api/v1/versions/{reference}/drain", { params }));
    await cache.invalidateQueries();
    void go(to.operation(operation.id));
  };
  return (
    <Confirm
      title={`Remove ${reference} from ${region}`}
      verb="Remove it there"
      unable={!plan.data || plan.data.blockers.length > 0}
      act={act}
      close={close}
    >
      {plan.error && <ProblemShown problem={plan.error} />}
      {plan.data && <PlanShown plan={plan.data} />}
    </Confirm>
  );
}
