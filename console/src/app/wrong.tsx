import { useRouteError } from "react-router";
import { Button, ProblemShown } from "~/parts/basics";

/** Where a page itself fails: what happened, and a way on. */
export function Wrong() {
  const error = useRouteError();
  return (
    <main className="mx-auto max-w-2xl p-8">
      <h1 className="text-say font-semibold">This page failed.</h1>
      <ProblemShown problem={error instanceof Error ? error.message : error} />
      <Button kind="main" onClick={() => location.reload()}>
        Load it again
      </Button>
    </main>
  );
}
