import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { acting, answer, http } from "~/api/client";
import { Button, ProblemShown } from "~/parts/basics";
import { TextField } from "~/parts/form";

export function Component() {
  const cache = useQueryClient();
  const go = useNavigate();
  const [search] = useSearchParams();
  const ways = useQuery({ queryKey: ["ways"], queryFn: () => answer(http.GET("/api/v1/session/ways")) });
  const [problem, setProblem] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const signIn = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const given = new FormData(event.currentTarget);
    setBusy(true);
    setProblem(null);
    try {
      const body = { user: String(given.get("user")), password: String(given.get("password")) };
      const who = await answer(http.POST("/api/v1/session", { body }));
      acting.csrf = who.csrf ?? "";
      cache.clear();
      cache.setQueryData(["session"], who);
      const then = search.get("then") ?? "/";
      await go(then.startsWith("/") && !then.startsWith("//") ? then : "/", { replace: true });
    } catch (failed) {
      setProblem(failed);
      setBusy(false);
    }
  };
  return (
    <main className="mx-auto mt-[14vh] w-[min(22rem,92vw)]">
      <h1 className="text-say font-semibold">Bathotype</h1>
      <p className="text-ink-2 mb-5">Sign in to see what runs, what is behind, and what needs you.</p>
      <form onSubmit={(event) => void signIn(event)}>
        <TextField label="Name" name="user" autoComplete="username" required autoFocus />
        <TextField label="Password" name="password" type="password" autoComplete="current-password" required />
        {problem !== null && <ProblemShown problem={problem} />}
        <Button type="submit" kind="main" disabled={busy}>
          {busy ? "Signing in …" : "Sign in"}
        </Button>
      </form>
      {ways.data?.oidc && (
        <p className="mt-4">
          <a href={ways.data.oidc}>Sign in with your organisation</a>
        </p>
      )}
      <p className="text-small text-ink-2 mt-4">
        You have an invitation? <Link to="/join">Choose your password</Link>
      </p>
    </main>
  );
}
