import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Empty, Facts, Heading, Loading, ProblemShown } from "~/parts/basics";
import { Choice } from "~/parts/form";
import { Table } from "~/parts/table";
import { iec, pieces, plural } from "~/parts/text";

/** How the contents differ from another version of the line, the one before if nothing else is chosen. */
export function Difference({ version }: { version: Schema["Version"] }) {
  const { line, account } = pieces(version.reference);
  const own = account === "";
  const all = useQuery({ ...ask.versions(line), enabled: own }).data?.items ?? [];
  const place = all.findIndex((one) => one.number === version.number);
  const before = all[place + 1]?.reference ?? version.parent ?? "";
  const [chosen, setChosen] = useState("");
  const against = chosen || before;
  const { data, error } = useQuery({ ...ask.difference(against, version.reference), enabled: against !== "" });
  if (!against) return <Empty>It is the first version of its line: there is nothing to compare it with.</Empty>;
  return (
    <>
      <div className="max-w-xs">
        <Choice
          label="Compared with"
          value={against}
          onChange={(e) => setChosen(e.target.value)}
          options={all.filter((v) => v.number !== version.number).map((v): [string, string] => [v.reference, v.number])}
        />
      </div>
      {error && <ProblemShown problem={error} />}
      {!data && !error && <Loading />}
      {data && <Told difference={data} />}
    </>
  );
}

function Told({ difference }: { difference: Schema["Difference"] }) {
  const rows = [
    ...Object.entries(difference.changed).map(([name, [from = "", now = ""]]) => ({
      name,
      what: "changed",
      from,
      now,
    })),
    ...Object.entries(difference.added).map(([name, now]) => ({ name, what: "added", from: "", now })),
    ...Object.entries(difference.removed).map(([name, from]) => ({ name, what: "removed", from, now: "" })),
  ];
  return (
    <>
      <Facts
        rows={[
          [
            "Bytes",
            difference.changed_bytes
              ? `${iec(difference.changed_bytes)} of their disks differ, counted in whole chunks`
              : "The same on their disks",
          ],
          [
            "Packages",
            difference.unknown.length
              ? "unknown"
              : `${Object.keys(difference.added).length} added, ${Object.keys(difference.removed).length} removed, ${Object.keys(difference.changed).length} changed`,
          ],
          ["Services added", difference.services_added.join(", ")],
          ["Services removed", difference.services_removed.join(", ")],
          ["Users added", difference.users_added.join(", ")],
          ["Users removed", difference.users_removed.join(", ")],
        ]}
      />
      <Heading>
        {difference.unknown.length ? "What differs in it is unknown" : `${plural(rows.length, "package")} that differ`}
      </Heading>
      {difference.unknown.length ? (
        <Empty>The contents of {difference.unknown.join(" and ")} cannot be listed.</Empty>
      ) : rows.length ? (
        <Table
          label="Packages that differ"
          rows={rows}
          id={(row) => row.name}
          columns={[
            { head: "package", cell: (row) => row.name },
            { head: "", cell: (row) => row.what },
            { head: "before", cell: (row) => row.from },
            { head: "now", cell: (row) => row.now },
          ]}
        />
      ) : (
        <Empty>The same packages in the same versions.</Empty>
      )}
    </>
  );
}
