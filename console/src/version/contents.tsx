import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Empty, Loading, ProblemShown } from "~/parts/basics";
import { TextField } from "~/parts/form";
import { Table } from "~/parts/table";
import { plural } from "~/parts/text";

const SHOWN = 200;

/** Every package on the disk, with a search. */
export function Contents({ version }: { version: Schema["Version"] }) {
  const { data, error } = useQuery(ask.packages(version.reference));
  const [text, setText] = useState("");
  const looked = useDeferredValue(text.trim().toLowerCase());
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  if (!data.length) return <Empty>No package manager that is understood was found on this disk.</Empty>;
  const found = data.filter((row) => row.name.includes(looked));
  return (
    <>
      <div className="max-w-sm">
        <TextField
          label="Search the packages"
          type="search"
          value={text}
          onChange={(e) => setText(e.target.value)}
          hint={`${plural(found.length, "package")}${found.length > SHOWN ? `; the first ${SHOWN} are shown` : ""}`}
        />
      </div>
      <Table
        label="Packages"
        rows={found.slice(0, SHOWN)}
        id={(row) => `${row.name} ${row.version} ${row.architecture}`}
        columns={[
          {
            head: "package",
            cell: (row) => <Link to={`/packages?name=${encodeURIComponent(row.name)}`}>{row.name}</Link>,
          },
          { head: "version", cell: (row) => row.version },
          { head: "architecture", cell: (row) => row.architecture },
          { head: "manager", cell: (row) => row.manager },
        ]}
      />
    </>
  );
}
