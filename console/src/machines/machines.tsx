import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { answer, http } from "~/api/client";
import type { paths } from "~/api/schema";
import { Empty, Loading, Moment, ProblemShown } from "~/parts/basics";
import { Check, TextField } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { Says } from "~/parts/sentence";
import { useOrder } from "~/parts/sorted";
import { State } from "~/parts/state";
import { ChosenTable } from "~/parts/table";
import { iec, plural, to } from "~/parts/text";

type Sort = NonNullable<paths["/api/v1/machines"]["get"]["parameters"]["query"]>["sort"];

/** Machines of all regions, as sources of captures. */
export function Component() {
  const [search] = useSearchParams();
  const line = search.get("line") ?? "";
  const [text, setText] = useState("");
  const [find, setFind] = useState("");
  const [all, setAll] = useState(false);
  useEffect(() => {
    const timer = setTimeout(() => setFind(text.trim()), 250);
    return () => clearTimeout(timer);
  }, [text]);
  const order = useOrder<NonNullable<Sort>>(["region", "name", "state"], "region");
  const { sort } = order;
  const asked = { sort, find: find || undefined, launched: all ? undefined : false, agents: true };
  const pages = usePages(["machines", asked], (cursor) =>
    answer(http.GET("/api/v1/machines", { params: { query: { ...asked, limit: 100, cursor, total: true } } })),
  );
  if (pages.error) return <ProblemShown problem={pages.error} />;
  const shown = pages.rows;
  const total = pages.total ?? shown.length;
  const out = Object.entries((pages.first as { problems?: Record<string, string> } | undefined)?.problems ?? {});
  const under = line
    ? `Choose the machine from which the next version of ${line} is captured.`
    : "Open one to see whether it can be captured, and what a capture would do.";
  return (
    <>
      <Says under={under}>
        {pages.pending
          ? "The machines at the sites."
          : `${plural(total, "machine")} ${total === 1 ? "is" : "are"} at the sites${all ? "" : ", besides the instances"}${find ? `, like “${find}”` : ""}.`}
      </Says>
      {out.map(([region, why]) => (
        <p key={region} role="alert" className="border-heed mt-3 border-l-2 pl-3">
          {region} does not answer: {why}
        </p>
      ))}
      <div className="mt-5 flex flex-wrap items-end gap-x-6">
        <div className="w-72">
          <TextField
            label="Search by name, id or address"
            type="search"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        </div>
        <Check label="Instances too" checked={all} onChange={(e) => setAll(e.target.checked)} />
      </div>
      {pages.pending ? (
        <Loading />
      ) : shown.length ? (
        <ChosenTable
          name="machines"
          label="Machines"
          rows={shown}
          id={(machine) => machine.id}
          order={order}
          columns={[
            {
              head: "machine",
              sort: "name",
              cell: (machine) => (
                <Link
                  to={
                    machine.instance
                      ? to.instance(machine.instance)
                      : `${to.machine(machine.region, machine.id)}${line ? `?line=${encodeURIComponent(line)}` : ""}`
                  }
                  className="text-ink font-semibold"
                >
                  {machine.name}
                </Link>
              ),
            },
            { head: "state", sort: "state", cell: (machine) => <State state={machine.state} /> },
            {
              head: "region",
              sort: "region",
              cell: (machine) => (
                <>
                  {machine.region} <span className="text-ink-3">{machine.zone}</span>
                </>
              ),
            },
            {
              head: "system",
              cell: (machine) =>
                machine.os ?? (machine.agent === "silent" ? <span className="text-ink-3">no agent answers</span> : ""),
            },
            { head: "size", cell: (machine) => machine.machine_size },
            { head: "disks", cell: (machine) => machine.disks.map((disk) => iec(disk.size)).join(", ") },
            { head: "address", cell: (machine) => machine.address },
            {
              head: "last capture",
              cell: (machine) =>
                machine.captured ? (
                  <>
                    <Link to={to.version(machine.captured)}>{machine.captured}</Link>
                    {machine.captured_at && (
                      <span className="text-ink-3 block">
                        <Moment at={machine.captured_at} />
                      </span>
                    )}
                  </>
                ) : machine.version ? (
                  <>
                    stems from <Link to={to.version(machine.version)}>{machine.version}</Link>
                  </>
                ) : (
                  ""
                ),
            },
          ]}
        />
      ) : (
        <Empty>No machine fits the search.</Empty>
      )}
      <More pages={pages} />
    </>
  );
}
