import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { answer, http } from "~/api/client";
import { ask } from "~/api/queries";
import { Button, Empty, Loading, ProblemShown } from "~/parts/basics";
import { Check, Choice, TextField } from "~/parts/form";
import { Says } from "~/parts/sentence";
import { plural } from "~/parts/text";
import { Rows } from "./rows";
import { saveCsv } from "./save";

const PAGE = 200;
const states = ["running", "stopped", "starting", "pending", "lost", "terminated", "failed"] as const;

function useFilter() {
  const [search, setSearch] = useSearchParams();
  const get = (name: string) => search.get(name) ?? "";
  const set = (name: string, value: string) =>
    setSearch(
      (now) => {
        const next = new URLSearchParams(now);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  return { get, set };
}

/** What is asked of the service, from the address of the page. */
function query(get: (name: string) => string) {
  const state = states.find((one) => one === get("state"));
  return {
    version: get("reference") || get("line") || undefined,
    region: get("region") || undefined,
    behind: get("behind") === "true" || undefined,
    state: state ? [state] : undefined,
    find: get("find") || undefined,
  };
}

/** Every instance of the account: ten thousand stay smooth, since only what is seen is drawn. */
export function Component() {
  const { get, set } = useFilter();
  const asked = query(get);
  const [text, setText] = useState(get("find"));
  const lines = useQuery(ask.lines()).data?.items ?? [];
  const regions = useQuery(ask.regions()).data ?? [];
  const total = useQuery(ask.counts()).data?.reduce(
    (sum, one) =>
      sum +
      Object.entries(one.states).reduce(
        (n, [state, count]) => (["terminated", "failed"].includes(state) ? n : n + count),
        0,
      ),
    0,
  );
  const pages = useInfiniteQuery({
    queryKey: ["instances", asked],
    queryFn: ({ pageParam }) =>
      answer(http.GET("/api/v1/instances", { params: { query: { ...asked, limit: PAGE, cursor: pageParam } } })),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });
  const find = useRef(set);
  useEffect(() => {
    find.current = set;
  });
  const asking = text.trim();
  const found = get("find");
  useEffect(() => {
    if (asking === found) return;
    const timer = setTimeout(() => find.current("find", asking), 300);
    return () => clearTimeout(timer);
  }, [asking, found]);
  const rows = pages.data?.pages.flatMap((page) => page.items) ?? [];
  const narrowed = Object.values(asked).some((value) => value !== undefined);
  const count = narrowed
    ? `${plural(rows.length, "instance")}${pages.hasNextPage ? " and more" : ""}`
    : plural(total ?? rows.length, "instance");
  const what = [
    asked.behind && "behind",
    asked.version && `of ${asked.version}`,
    asked.region && `in ${asked.region}`,
    get("state"),
    found && `like “${found}”`,
  ]
    .filter(Boolean)
    .join(", ");
  return (
    <>
      <Says
        under={asked.behind ? "Each runs an older version than the newest released one of its line." : "Newest first."}
      >{`${count}${what ? `, ${what}` : ` ${total === 1 ? "is" : "are"} there or coming`}.`}</Says>
      <div className="mt-4 grid grid-cols-2 gap-x-4 sm:grid-cols-3 lg:grid-cols-6">
        <TextField label="Name, id or address" type="search" value={text} onChange={(e) => setText(e.target.value)} />
        <Choice
          label="Line"
          value={get("line")}
          onChange={(e) => set("line", e.target.value)}
          options={[["", "any"], ...lines.map((l): [string, string] => [l.name, l.name])]}
        />
        <Choice
          label="Region"
          value={get("region")}
          onChange={(e) => set("region", e.target.value)}
          options={[["", "any"], ...regions.map((r): [string, string] => [r.name, r.name])]}
        />
        <Choice
          label="State"
          value={get("state")}
          onChange={(e) => set("state", e.target.value)}
          options={[["", "there or coming"], ...states]}
        />
        <div className="self-center pt-2">
          <Check
            label="Only what is behind"
            checked={get("behind") === "true"}
            onChange={(e) => set("behind", e.target.checked ? "true" : "")}
          />
        </div>
        <div className="self-center pt-1">
          <Button onClick={() => void saveCsv(asked)}>Save as CSV</Button>
        </div>
      </div>
      {pages.error && <ProblemShown problem={pages.error} />}
      {pages.isPending ? (
        <Loading />
      ) : rows.length ? (
        <Rows
          rows={rows}
          more={pages.hasNextPage && !pages.isFetchingNextPage ? () => void pages.fetchNextPage() : undefined}
        />
      ) : (
        <Empty>
          {narrowed ? (
            "Nothing fits. Take a filter away."
          ) : (
            <>
              Nothing runs yet. <Link to="/launch">Launch something</Link>
            </>
          )}
        </Empty>
      )}
    </>
  );
}
