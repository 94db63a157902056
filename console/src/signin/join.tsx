import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { Button, ProblemShown } from "~/parts/basics";
import { TextField } from "~/parts/form";

/** A new person joins with the code of an invitation: by a password, or by the organisation's log-in. */
export function Component() {
  const [search] = useSearchParams();
  const [problem, setProblem] = useState<unknown>(null);
  const ways = useQuery({ queryKey: ["ways"], queryFn: () => answer(http.GET("/api/v1/session/ways")) });
  const [code, setCode] = useState(search.get("code") ?? "");
  const [who, setWho] = useState<Schema["WhoAmI"] | null>(null);
  const join = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const given = new FormData(event.currentTarget);
    setProblem(null);
    try {
      const body = { code, password: String(given.get("password")) };
      setWho(await answer(http.POST("/api/v1/invitations/acceptance", { body })));
    } catch (failed) {
      setProblem(failed);
    }
  };
  const joinByProvider = async () => {
    try {
      const { address } = await answer(http.POST("/api/v1/session/oidc", { body: { invitation: code } }));
      location.assign(address);
    } catch (failed) {
      setProblem(failed);
    }
  };
  return (
    <main className="mx-auto mt-[14vh] w-[min(24rem,92vw)]">
      <h1 className="text-say mb-3 font-semibold">{who ? `Welcome, ${who.user}.` : "Choose your password"}</h1>
      {who ? (
        <p>
          Your password is set. <Link to="/sign-in">Sign in</Link>
        </p>
      ) : (
        <form onSubmit={(event) => void join(event)}>
          <TextField
            label="Code of the invitation"
            name="code"
            value={code}
            onChange={(event) => setCode(event.target.value)}
            required
            autoComplete="off"
          />
          <TextField
            label="New password"
            name="password"
            type="password"
            autoComplete="new-password"
            required
            hint="12 characters or more. Take a few words."
          />
          {problem !== null && <ProblemShown problem={problem} />}
          <Button type="submit" kind="main">
            Set the password
          </Button>
          {ways.data?.oidc && (
            <p className="mt-4">
              <Button kind="quiet" disabled={!code} onClick={() => void joinByProvider()}>
                Join with your organisation instead
              </Button>
            </p>
          )}
        </form>
      )}
    </main>
  );
}
