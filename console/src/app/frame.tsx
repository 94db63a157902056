import { useQueryClient } from "@tanstack/react-query";
import clsx from "clsx";
import { lazy, Suspense, useEffect, useState } from "react";
import { Navigate, NavLink, Outlet, useLocation, useNavigation } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { useLive } from "~/api/live";
import { Button, Loading, ProblemShown } from "~/parts/basics";
import { useInSight } from "~/parts/sight";
import { Asked } from "./asked";
import { PasswordDialog } from "./password";
import { SessionGiven, useAccount, useSwitch, useWho } from "./session";
import { setTheme, useTheme } from "./theme";

const Palette = lazy(() => import("./palette"));

const places = [
  ["/", "Today"],
  ["/lines", "Lines"],
  ["/machines", "Machines"],
  ["/instances", "Instances"],
  ["/sheets", "Sheets"],
  ["/calendar", "Calendar"],
  ["/ledger", "Ledger"],
  ["/people", "People"],
] as const;

/** What surrounds every page, once somebody is signed in. */
export function Frame() {
  const who = useWho();
  const { pathname, search } = useLocation();
  if (who.isPending) return <Loading />;
  if (who.isError) return <ProblemShown problem={who.error} />;
  if (!who.data) return <Navigate to={`/sign-in?then=${encodeURIComponent(pathname + search)}`} replace />;
  return <Signed who={who.data} />;
}

function Signed({ who }: { who: Schema["WhoAmI"] }) {
  const account = useAccount(who);
  const there = useLive(account);
  const [searching, setSearching] = useState(false);
  const busy = useNavigation().state === "loading";
  const pages = useInSight<HTMLElement>("[aria-current=page]", useLocation().pathname);
  useEffect(() => {
    const open = (event: KeyboardEvent) => {
      const typing = event.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(event.target.tagName);
      if ((event.key === "/" && !typing) || (event.key === "k" && (event.ctrlKey || event.metaKey))) {
        event.preventDefault();
        setSearching(true);
      }
    };
    addEventListener("keydown", open);
    return () => removeEventListener("keydown", open);
  }, []);
  return (
    <SessionGiven who={who} account={account}>
      <a href="#page" className="sr-only focus:not-sr-only">
        To the page
      </a>
      <header className="border-rule border-b">
        <div className="mx-auto flex max-w-[80rem] flex-wrap items-center gap-x-5 gap-y-1 px-4 sm:px-8">
          <span className="py-2.5 pr-2 text-[16px] font-bold">Bathotype</span>
          <nav
            ref={pages}
            aria-label="Pages"
            className="order-last -mx-1 flex w-full gap-5 overflow-x-auto px-1 md:order-none md:w-auto"
          >
            {places.map(([to, name]) => (
              <NavLink
                key={to}
                to={to}
                end={to === "/"}
                className={({ isActive }) =>
                  clsx(
                    "border-b-2 py-2.5 whitespace-nowrap hover:no-underline",
                    isActive ? "border-ink text-ink font-semibold" : "text-ink-2 hover:text-ink border-transparent",
                  )
                }
              >
                {name}
              </NavLink>
            ))}
          </nav>
          <div className="ml-auto flex items-center gap-3">
            <Account who={who} account={account} />
            <button
              type="button"
              onClick={() => setSearching(true)}
              className="rounded-edge border-rule text-label text-ink-2 border px-2 py-0.5"
            >
              / search or do
            </button>
          </div>
        </div>
      </header>
      {!there && (
        <p role="status" className="bg-land text-small text-land-ink px-8 py-1.5 text-center">
          The service does not answer. This page goes on by itself when it does.
        </p>
      )}
      <Asked />
      <main id="page" tabIndex={-1} aria-busy={busy} className="mx-auto max-w-[80rem] px-4 py-7 outline-none sm:px-8">
        {account ? <Outlet key={account} /> : <p>You are a member of no account yet. Ask a steward to add you.</p>}
      </main>
      <Suspense>{searching && <Palette close={() => setSearching(false)} />}</Suspense>
    </SessionGiven>
  );
}

/** Which account acts, the looks, and the way out. */
function Account({ who, account }: { who: Schema["WhoAmI"]; account: string }) {
  const cache = useQueryClient();
  const change = useSwitch();
  const other = useTheme() === "day" ? "night" : "day";
  const [changing, setChanging] = useState(false);
  const leave = async () => {
    await answer(http.DELETE("/api/v1/session"));
    cache.clear();
    location.assign("/sign-in");
  };
  return (
    <details
      className="relative"
      onBlur={(event) => {
        if (!event.currentTarget.contains(event.relatedTarget)) event.currentTarget.open = false;
      }}
    >
      <summary className="text-small list-none">
        <span className="font-semibold">{account || who.user}</span>, as {who.user} <span aria-hidden>▾</span>
      </summary>
      <div className="rounded-edge border-rule bg-sheet absolute right-0 z-10 mt-1 w-60 border p-3">
        <p className="text-label text-ink-3">Act for</p>
        <ul className="mb-2">
          {who.accounts.map((one) => (
            <li key={one.account}>
              <Button
                kind="quiet"
                aria-current={one.account === account}
                className={clsx("py-0.5", one.account === account && "font-semibold")}
                onClick={() => {
                  change(one.account);
                  location.assign(`/?account=${encodeURIComponent(one.account)}`);
                }}
              >
                {one.account} <span className="text-ink-3 font-normal">{one.role}</span>
              </Button>
            </li>
          ))}
        </ul>
        {who.kind === "person" && (
          <p className="border-hair border-t py-1">
            <Button kind="quiet" onClick={() => setChanging(true)}>
              Change password
            </Button>
          </p>
        )}
        <div className="border-hair flex justify-between border-t pt-2">
          <Button kind="quiet" onClick={() => setTheme(other)}>
            {other === "night" ? "Night looks" : "Day looks"}
          </Button>
          <a href="/api/docs" className="text-small self-center">
            The API
          </a>
          <Button kind="quiet" onClick={() => void leave()}>
            Sign out
          </Button>
        </div>
      </div>
      {changing && <PasswordDialog close={() => setChanging(false)} />}
    </details>
  );
}
