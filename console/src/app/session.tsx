import { useQuery, useQueryClient } from "@tanstack/react-query";
import { createContext, use, useMemo, type ReactNode } from "react";
import { useSearchParams } from "react-router";
import { acting, answer, http, Problem, type Schema } from "~/api/client";

type WhoAmI = Schema["WhoAmI"];
export type Verb = Schema["Verb"];

type Session = { who: WhoAmI; account: string; may: (verb: Verb) => boolean };
const Context = createContext<Session | null>(null);

/** Who is signed in; null where nobody is. */
export function useWho() {
  return useQuery({
    queryKey: ["session"],
    queryFn: async () => {
      try {
        const who = await answer(http.GET("/api/v1/session"));
        acting.csrf = who.csrf ?? "";
        return who;
      } catch (problem) {
        if (problem instanceof Problem && problem.status === 401) return null;
        throw problem;
      }
    },
    staleTime: Infinity,
  });
}

const KEPT = "bathotype.account";

const strength = { steward: 0, operator: 1, viewer: 2 };

/** The account for which the page acts: of the address, else the one that was used last, else where one may most. */
export function useAccount(who: WhoAmI): string {
  const [search] = useSearchParams();
  const held = [...who.accounts].sort((a, b) => strength[a.role] - strength[b.role]);
  const names = held.map((a) => a.account);
  const wanted = search.get("account") ?? localStorage.getItem(KEPT) ?? "";
  const account = names.includes(wanted) ? wanted : (names[0] ?? "");
  acting.account = account;
  if (account) localStorage.setItem(KEPT, account);
  return account;
}

export function SessionGiven({ who, account, children }: { who: WhoAmI; account: string; children: ReactNode }) {
  const value = useMemo(() => {
    const verbs = who.accounts.find((a) => a.account === account)?.verbs ?? [];
    return { who, account, may: (verb: Verb) => verbs.includes(verb) };
  }, [who, account]);
  return <Context value={value}>{children}</Context>;
}

export function useSession(): Session {
  const session = use(Context);
  if (!session) throw new Error("no session here");
  return session;
}

/** Changes to another account: everything on the page is asked for anew. */
export function useSwitch() {
  const cache = useQueryClient();
  return (account: string) => {
    localStorage.setItem(KEPT, account);
    acting.account = account;
    cache.removeQueries({ predicate: ({ queryKey }) => queryKey[0] !== "session" });
  };
}
