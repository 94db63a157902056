import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "react-router";
import { answer, http, onceKey, type Schema } from "~/api/client";
import { Loading, ProblemShown } from "~/parts/basics";
import { Confirm, PlanShown } from "~/parts/dialog";
import { plural, to } from "~/parts/text";

export type Chosen = { instances: string[] } | { where: Schema["InstanceFilter"] };
export type ChangeVerb = Schema["InstanceChangeRequest"]["verb"];

const words: Record<ChangeVerb, string> = { stop: "Stop", start: "Start", terminate: "Terminate" };

/** Stops, starts or terminates many instances: first the plan, then just those of the plan, as one operation. */
export function ChangeMany({ verb, chosen, close }: { verb: ChangeVerb; chosen: Chosen; close: () => void }) {
  const cache = useQueryClient();
  const go = useNavigate();
  const body = { verb, instances: null, where: null, ...chosen };
  const plan = useQuery({
    queryKey: ["still", "instance-plan", body],
    queryFn: () => answer(http.POST("/api/v1/instance-plans", { body })),
    gcTime: 0,
  });
  const act = async () => {
    const operation = await answer(
      http.POST("/api/v1/instance-changes", {
        body: { ...body, selection: plan.data?.selection ?? null },
        params: { header: onceKey() },
      }),
    );
    await cache.invalidateQueries();
    void go(to.operation(operation.id));
  };
  const count = plan.data?.count ?? 0;
  return (
    <Confirm
      title={count ? `${words[verb]} ${plural(count, "instance")}` : `${words[verb]} instances`}
      verb={words[verb]}
      typed={verb === "terminate" && count ? `terminate ${count}` : undefined}
      loses={verb === "terminate"}
      unable={!plan.data || plan.data.blockers.length > 0}
      act={act}
      close={close}
    >
      {plan.error ? <ProblemShown problem={plan.error} /> : !plan.data && <Loading />}
      {plan.data && (
        <>
          <PlanShown plan={plan.data} />
          <p className="text-small text-ink-2 wrap-anywhere">
            {plan.data.names.slice(0, 12).join(", ")}
            {count > 12 && ` and ${count - 12} more`}
          </p>
        </>
      )}
    </Confirm>
  );
}
