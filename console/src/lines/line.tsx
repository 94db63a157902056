import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Heading, Loading, ProblemShown } from "~/parts/basics";
import { Offers } from "~/parts/offers";
import { Page } from "~/parts/page";
import { GoingOn } from "~/parts/progress";
import { Sentence } from "~/parts/sentence";
import { State } from "~/parts/state";
import { Table } from "~/parts/table";
import { day, iec, plural, to } from "~/parts/text";
import { TideChart } from "~/parts/tide-chart";
import { LineDialog } from "./dialogs";
import { Lineage } from "./lineage";

/** Which version of a line runs where, since when, and what will be cut off. */
export function Component() {
  const name = useParams().name ?? "";
  const go = useNavigate();
  const { data, error } = useQuery(ask.line(name));
  const history = useQuery(ask.history(name));
  const versions = useQuery(ask.versions(name));
  const replicas = useQuery(ask.replicasOfLine(name));
  const [asked, setAsked] = useState("");
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const act = (verb: string) => {
    if (verb === "launch") void go(to.launch(name));
    else if (verb === "capture") void go(`/machines?line=${encodeURIComponent(name)}`);
    else if (verb === "behind") void go(to.instances({ line: name, behind: "true" }));
    else setAsked(verb);
  };
  const shared = data.shared_with.length ? `Shared with ${data.shared_with.join(" and ")}.` : "Shared with nobody.";
  return (
    <Page
      aside={
        <>
          <Offers offers={data.offers} act={act} />
          <GoingOn operations={data.operations} />
        </>
      }
    >
      <Sentence
        parts={data.sentence}
        leads={{ instances: to.instances({ line: name }), behind: to.instances({ line: name, behind: "true" }) }}
        under={`${data.line.about} Owned by ${data.line.account}. ${shared}`}
      />
      {history.data && data.line.running > 0 && <TideChart history={history.data} />}
      <Heading>Versions</Heading>
      {versions.data && <Versions versions={versions.data.items} runs={data.runs} />}
      <Lineage name={name} />
      <Heading>Where they are kept</Heading>
      {replicas.data && <Kept rows={replicas.data.items} />}
      <Heading>Who runs it</Heading>
      <Runs runs={data.runs} />
      {asked && (
        <LineDialog name={name} verb={asked} versions={versions.data?.items ?? []} close={() => setAsked("")} />
      )}
    </Page>
  );
}

function Versions({ versions, runs }: { versions: Schema["Version"][]; runs: Schema["Runs"][] }) {
  const where = (number: string) => {
    const regions = new Map<string, number>();
    for (const run of runs)
      if (run.number === number) regions.set(run.region, (regions.get(run.region) ?? 0) + run.running);
    return [...regions].map(([region, count]) => `${region} ${count}`).join(", ");
  };
  if (!versions.length) return <p className="text-ink-2 py-3">Nothing yet: capture a machine, or bring in a file.</p>;
  return (
    <Table
      label="Versions"
      rows={versions}
      id={(version) => version.id}
      columns={[
        {
          head: "version",
          cell: (version) => (
            <>
              <Link to={to.version(version.reference)} className="text-ink font-semibold">
                {version.number}
              </Link>
              {version.marks.length > 0 && <span className="text-ink-3 block">{version.marks.join(", ")}</span>}
            </>
          ),
        },
        { head: "state", cell: (version) => <State state={version.state}>{stateWords(version)}</State> },
        { head: "running", number: true, cell: (version) => version.running },
        { head: "where it runs", cell: (version) => where(version.number) },
        { head: "packages", number: true, cell: (version) => version.packages ?? "unknown" },
        { head: "added bytes", number: true, cell: (version) => iec(version.sizes.new) },
      ]}
    />
  );
}

/** A row a version, a column a region: launch-ready disks, or what is the matter with the replica. */
function Kept({ rows }: { rows: Schema["VersionReplicas"][] }) {
  const regions = [...new Set(rows.flatMap((row) => row.replicas.map((one) => one.region)))].sort();
  if (!regions.length) return <p className="text-ink-2 py-3">No region holds a version of it.</p>;
  return (
    <Table
      label="Where they are kept"
      rows={rows}
      id={(row) => row.reference}
      columns={[
        {
          head: "version",
          cell: (row) => <Link to={to.version(row.reference, "where")}>{row.reference.split("@")[1]}</Link>,
        },
        ...regions.map((region) => ({
          head: region,
          cell: (row: Schema["VersionReplicas"]) => {
            const one = row.replicas.find((replica) => replica.region === region);
            if (!one) return <span className="text-ink-3">not here</span>;
            if (one.state !== "ready") return <State state={one.state} />;
            return one.standing ? plural(one.standing, "launch-ready disk") : "its bytes";
          },
        })),
      ]}
    />
  );
}

function stateWords(version: Schema["Version"]): string {
  if (version.state === "staged" && version.findings.open_high) return `, ${version.findings.open_high} open`;
  if (version.state === "released" && version.released_at) return ` ${day(version.released_at)}`;
  if (version.state === "sunset" && version.retire_on) return `, retires ${day(version.retire_on)}`;
  return "";
}

function Runs({ runs }: { runs: Schema["Runs"][] }) {
  if (!runs.length) return <p className="text-ink-2 py-3">No instance runs any version of it.</p>;
  return (
    <Table
      label="Who runs it"
      rows={runs}
      id={(run) => `${run.number} ${run.account} ${run.region}`}
      columns={[
        { head: "version", cell: (run) => <Link to={to.version(run.reference)}>{run.number}</Link> },
        { head: "account", cell: (run) => run.account },
        { head: "region", cell: (run) => run.region },
        { head: "running", number: true, cell: (run) => run.running },
      ]}
    />
  );
}
