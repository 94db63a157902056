import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { answer, http, onceKey, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Button, Empty, Loading, ProblemShown } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { NameField, TextArea } from "~/parts/form";
import { Says } from "~/parts/sentence";
import { SmallTide } from "~/parts/small-tide";
import { Table } from "~/parts/table";
import { plural, to } from "~/parts/text";

/** Which version runs where?  All lines, each with its small tide chart. */
export function Component() {
  const { data, error } = useQuery(ask.overview());
  const shared = useQuery(ask.sharedVersions()).data?.items ?? [];
  const { may, account } = useSession();
  const [making, setMaking] = useState(false);
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  return (
    <>
      <Says under={`Lines of ${account}. What other accounts run of them is counted too.`}>{saying(data.lines)}</Says>
      <p className="my-4">
        {may("operate") ? (
          <Button onClick={() => setMaking(true)}>Make a line</Button>
        ) : (
          <span className="text-small text-ink-2">To make a line you need to be operator.</span>
        )}
      </p>
      {data.lines.length ? (
        <Table
          label="Lines"
          rows={data.lines}
          id={(line) => line.name}
          columns={[
            {
              head: "line",
              cell: (line) => (
                <Link to={to.line(line.name)} className="text-ink font-semibold">
                  {line.name}
                </Link>
              ),
            },
            { head: "for", cell: (line) => <span className="text-ink-2">{line.about}</span> },
            { head: "versions", number: true, cell: (line) => line.versions },
            {
              head: "newest",
              cell: (line) =>
                line.newest ? <Link to={to.version(`${line.name}@${line.newest}`)}>{line.newest}</Link> : "no release",
            },
            { head: "running", number: true, cell: (line) => line.running },
            { head: "behind", number: true, cell: (line) => line.behind },
            { head: "120 days", wide: true, cell: (line) => <SmallTide current={line.current} older={line.older} /> },
          ]}
        />
      ) : (
        <Empty>
          A line is a named sequence of versions for one purpose. Make the first one, then capture a machine into it.
        </Empty>
      )}
      {shared && shared.length > 0 && (
        <>
          <h2 className="text-label text-ink-2 mt-8 mb-1 font-semibold">Shared with {account}</h2>
          <Table
            label="Shared versions"
            rows={shared}
            id={(version) => version.reference}
            columns={[
              {
                head: "version",
                cell: (version) => <Link to={to.version(version.reference)}>{version.reference}</Link>,
              },
              { head: "state", cell: (version) => version.state },
              { head: "regions", cell: (version) => version.regions.join(", ") },
              { head: "running here", number: true, cell: (version) => version.running },
            ]}
          />
        </>
      )}
      {making && <Make close={() => setMaking(false)} />}
    </>
  );
}

function saying(lines: Schema["LineSummary"][]): string {
  const running = lines.reduce((sum, line) => sum + line.running, 0);
  const behind = lines.reduce((sum, line) => sum + line.behind, 0);
  const count = plural(lines.length, "line");
  if (!running) return `${count}; no instance runs.`;
  const late = behind ? `${behind} ${behind === 1 ? "is" : "are"} behind` : "none is behind";
  return `${count}, of which ${plural(running, "instance")} ${running === 1 ? "runs" : "run"}; ${late}.`;
}

function Make({ close }: { close: () => void }) {
  const cache = useQueryClient();
  const go = useNavigate();
  const [name, setName] = useState("");
  const [about, setAbout] = useState("");
  const make = async () => {
    await answer(http.POST("/api/v1/lines", { body: { name, about }, params: { header: onceKey() } }));
    await cache.invalidateQueries();
    void go(to.line(name));
  };
  return (
    <Confirm title="Make a line" verb="Make it" act={make} close={close}>
      <NameField
        label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
        required
        placeholder="gauge-collector"
        autoFocus
        hint="Small letters, digits and hyphens."
      />
      <TextArea label="For what" value={about} onChange={(e) => setAbout(e.target.value)} />
    </Confirm>
  );
}
