import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { ask } from "~/api/queries";
import { Empty, Loading, Moment, ProblemShown } from "~/parts/basics";
import { Check, TextField } from "~/parts/form";
import { Says } from "~/parts/sentence";
import { State } from "~/parts/state";
import { Table } from "~/parts/table";
import { iec, plural, to } from "~/parts/text";

/** Machines of all regions, as sources of captures. */
export function Component() {
  const { data, error } = useQuery(ask.machines());
  const [search] = useSearchParams();
  const line = search.get("line") ?? "";
  const [text, setText] = useState("");
  const [launched, setLaunched] = useState(false);
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const own = data.items.filter((machine) => !machine.instance);
  const shown = (launched ? data.items : own).filter((m) => `${m.name} ${m.id} ${m.address}`.includes(text.trim()));
  const out = Object.entries(data.problems ?? {});
  const under = line
    ? `Choose the machine from which the next version of ${line} is captured.`
    : "Open one to see whether it can be captured, and what a capture would do.";
  return (
    <>
      <Says
        under={under}
      >{`${plural(own.length, "machine")} ${own.length === 1 ? "is" : "are"} at the sites, besides ${plural(data.items.length - own.length, "instance")}.`}</Says>
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
        <Check label="Instances too" checked={launched} onChange={(e) => setLaunched(e.target.checked)} />
      </div>
      {shown.length ? (
        <Table
          label="Machines"
          rows={shown.slice(0, 300)}
          id={(machine) => machine.id}
          columns={[
            {
              head: "machine",
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
            { head: "state", cell: (machine) => <State state={machine.state} /> },
            {
              head: "region",
              cell: (machine) => (
                <>
                  {machine.region} <span className="text-ink-3">{machine.zone}</span>
                </>
              ),
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
      {shown.length > 300 && (
        <p className="text-ink-2 py-2">The first 300 of {shown.length} are shown: search by name.</p>
      )}
    </>
  );
}
