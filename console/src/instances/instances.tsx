import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { answer, http } from "~/api/client";
import type { paths } from "~/api/schema";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Button, Empty, Loading, ProblemShown } from "~/parts/basics";
import { useColumns } from "~/parts/columns";
import { Check, Choice, TextField } from "~/parts/form";
import { usePages } from "~/parts/paged";
import { useOrder } from "~/parts/sorted";
import { Says } from "~/parts/sentence";
import { plural } from "~/parts/text";
import { ChangeMany, type ChangeVerb, type Chosen } from "./change-many";
import { instanceColumns } from "./columns";
import { Rows } from "./rows";
import { save } from "./save";

const PAGE = 200;
const states = ["running", "stopped", "starting", "pending", "lost", "terminated", "failed"] as const;
const sorts = ["launched", "name", "state", "region", "version"];
type Sort = NonNullable<paths["/api/v1/instances"]["get"]["parameters"]["query"]>["sort"];

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
  const { may } = useSession();
  const asked = query(get);
  const order = useOrder<NonNullable<Sort>>(sorts, "-launched");
  const { sort } = order;
  const [text, setText] = useState(get("find"));
  const lines = useQuery(ask.lines()).data?.items ?? [];
  const regions = useQuery(ask.regions()).data ?? [];
  const pages = usePages(["instances", asked, sort], (cursor) =>
    answer(
      http.GET("/api/v1/instances", { params: { query: { ...asked, sort, limit: PAGE, cursor, total: !cursor } } }),
    ),
  );
  const { shown, chooser } = useColumns("instances", instanceColumns);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
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
  const { rows } = pages;
  const total = pages.total ?? rows.length;
  const narrowed = Object.values(asked).some((value) => value !== undefined);
  const of = [asked.version && `of ${asked.version}`, asked.region && `in ${asked.region}`, found && `like “${found}”`];
  const how = get("state") || (asked.behind ? "behind" : "there or coming");
  const also = get("state") && asked.behind ? " and behind" : "";
  const sentence = [total ? plural(total, "instance") : "No instance", ...of, total > 1 ? "are" : "is", how]
    .filter(Boolean)
    .join(" ");
  const choice = {
    has: (id: string) => chosen.has(id),
    set: (id: string, on: boolean) => {
      const next = new Set(chosen);
      if (on) next.add(id);
      else next.delete(id);
      setChosen(next);
    },
    all: (on: boolean) => setChosen(new Set(on ? rows.map((row) => row.id) : [])),
  };
  return (
    <>
      <Says
        under={asked.behind ? "Each runs an older version than the newest released one of its line." : undefined}
      >{`${sentence}${also}.`}</Says>
      <div className="mt-4 grid grid-cols-2 gap-x-4 sm:grid-cols-3 lg:grid-cols-5">
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
      </div>
      <div className="mb-1 flex flex-wrap items-baseline justify-between gap-x-6 gap-y-1">
        {may("operate") ? (
          <Many chosen={chosen} asked={asked} total={total} narrowed={narrowed} done={() => setChosen(new Set())} />
        ) : (
          <span />
        )}
        <span className="text-small flex gap-4">
          <Button kind="quiet" className="text-small" onClick={() => void save({ ...asked, sort }, "csv")}>
            Save as CSV
          </Button>
          <Button kind="quiet" className="text-small" onClick={() => void save({ ...asked, sort }, "ndjson")}>
            as NDJSON
          </Button>
          {chooser}
        </span>
      </div>
      {pages.error && <ProblemShown problem={pages.error} />}
      {pages.pending ? (
        <Loading />
      ) : rows.length ? (
        <Rows
          rows={rows}
          columns={shown}
          choice={may("operate") ? choice : undefined}
          order={order}
          more={pages.more}
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

type ManyGiven = {
  chosen: ReadonlySet<string>;
  asked: ReturnType<typeof query>;
  total: number;
  narrowed: boolean;
  done: () => void;
};

/** What can be done with those that are chosen, or with all that fit the filters. */
function Many({ chosen, asked, total, narrowed, done }: ManyGiven) {
  const [verb, setVerb] = useState<ChangeVerb | null>(null);
  if (!total) return <span />;
  if (!chosen.size && !narrowed)
    return <span className="text-small text-ink-2">Choose instances, or narrow the list, to change many at once.</span>;
  const what: Chosen = chosen.size
    ? { instances: [...chosen] }
    : { where: { ...asked, behind: asked.behind ?? false } };
  const close = () => {
    setVerb(null);
    done();
  };
  return (
    <span className="text-small flex flex-wrap gap-x-4">
      <span>{chosen.size ? `${chosen.size} chosen:` : `All ${total.toLocaleString("en-GB")} that fit:`}</span>
      {(["stop", "start", "terminate"] as const).map((one) => (
        <Button
          key={one}
          kind="quiet"
          className={one === "terminate" ? "text-heed! text-small font-semibold" : "text-small font-semibold"}
          onClick={() => setVerb(one)}
        >
          {`${one[0]!.toUpperCase()}${one.slice(1)}`}
        </Button>
      ))}
      {verb && <ChangeMany verb={verb} chosen={what} close={close} />}
    </span>
  );
}
