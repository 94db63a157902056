import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, type Schema } from "~/api/client";
import { Button, ProblemShown } from "~/parts/basics";

const offered = { queryKey: ["session", "offered"], queryFn: () => answer(http.GET("/api/v1/memberships/offered")) };

/** Accounts whose stewards ask the person to be a member: nobody becomes one unasked. */
export function Asked() {
  const { data } = useQuery(offered);
  return data?.map((one) => <Offer key={one.account} offer={one} />);
}

function Offer({ offer: { account, role } }: { offer: Schema["OfferedMembership"] }) {
  const cache = useQueryClient();
  const [problem, setProblem] = useState<unknown>(null);
  const params = { path: { account } };
  const act = (call: () => Promise<unknown>) => async () => {
    try {
      await call();
      await cache.invalidateQueries({ queryKey: ["session"] });
    } catch (failed) {
      setProblem(failed);
    }
  };
  return (
    <section aria-label={`Membership of ${account}`} className="border-rule bg-sheet border-b px-4 py-2 sm:px-8">
      <p className="text-small mx-auto flex max-w-[80rem] flex-wrap items-center gap-3">
        <span>
          A steward of <b>{account}</b> asks you to be its {role}.
        </span>
        <Button
          onClick={() => void act(() => answer(http.POST("/api/v1/memberships/{account}/acceptance", { params })))()}
        >
          Accept
        </Button>
        <Button
          kind="quiet"
          onClick={() => void act(() => answer(http.DELETE("/api/v1/memberships/{account}", { params })))()}
        >
          Decline
        </Button>
      </p>
      {problem !== null && <ProblemShown problem={problem} />}
    </section>
  );
}
