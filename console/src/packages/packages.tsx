import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { ask } from "~/api/queries";
import { Button, Empty, Loading, ProblemShown } from "~/parts/basics";
import { Check, TextField } from "~/parts/form";
import { Says } from "~/parts/sentence";
import { State } from "~/parts/state";
import { Table } from "~/parts/table";
import { plural, to } from "~/parts/text";
import { older } from "./compare";

/** Which machines carry package X, below version Y? */
export function Component() {
  const [search, setSearch] = useSearchParams();
  const name = search.get("name") ?? "";
  const below = search.get("below") ?? "";
  const [running, setRunning] = useState(false);
  const { data, error } = useQuery(ask.packageUse(name));
  const look = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const given = new FormData(event.currentTarget);
    const next = { name: String(given.get("name")).trim(), below: String(given.get("below")).trim() };
    setSearch(Object.fromEntries(Object.entries(next).filter(([, value]) => value)));
  };
  const found = (data ?? []).filter((use) => (!below || older(use.version, below)) && (!running || use.running > 0));
  const machines = found.reduce((sum, use) => sum + use.running, 0);
  const asked = `${name}${below ? ` below ${below}` : ""}`;
  return (
    <>
      <Says under="Contents are recorded with each version, so that this is one look.">
        {name && data
          ? `${plural(machines, "running instance")} of ${plural(found.length, "version")} ${machines === 1 ? "carries" : "carry"} ${asked}.`
          : "Which machines carry a package?"}
      </Says>
      <form key={`${name} ${below}`} onSubmit={look} className="mt-4 flex flex-wrap items-end gap-x-4">
        <div className="w-64">
          <TextField label="Package" name="name" defaultValue={name} required placeholder="openssl" />
        </div>
        <div className="w-48">
          <TextField label="Below version" name="below" defaultValue={below} placeholder="any version" />
        </div>
        <Button type="submit" kind="main" className="mb-8">
          Find it
        </Button>
        <div className="mb-8">
          <Check label="Only versions that run" checked={running} onChange={(e) => setRunning(e.target.checked)} />
        </div>
      </form>
      {error && <ProblemShown problem={error} />}
      {name && !data && !error && <Loading />}
      {data && found.length === 0 && <Empty>No version carries {asked}.</Empty>}
      {found.length > 0 && (
        <Table
          label="Versions that carry it"
          rows={found}
          id={(use) => `${use.reference} ${use.version}`}
          columns={[
            { head: "version", cell: (use) => <Link to={to.version(use.reference)}>{use.reference}</Link> },
            { head: "state", cell: (use) => <State state={use.state} /> },
            { head: "package", cell: (use) => `${use.package} ${use.version}` },
            {
              head: "running",
              number: true,
              cell: (use) =>
                use.running ? <Link to={to.instances({ reference: use.reference })}>{use.running}</Link> : 0,
            },
          ]}
        />
      )}
    </>
  );
}
