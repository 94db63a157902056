import { keepPreviousData } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import type { paths } from "~/api/schema";
import { Empty, Loading, ProblemShown } from "~/parts/basics";
import { TextField } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { useOrder } from "~/parts/sorted";
import { Table } from "~/parts/table";
import { plural } from "~/parts/text";

type Sort = NonNullable<paths["/api/v1/versions/{reference}/packages"]["get"]["parameters"]["query"]>["sort"];

/** Every package on the disk, with a search. */
export function Contents({ version: { reference } }: { version: Schema["Version"] }) {
  const [text, setText] = useState("");
  const find = useDeferredValue(text.trim());
  const order = useOrder<NonNullable<Sort>>(["name", "manager"], "name");
  const { sort } = order;
  const pages = usePages(
    ["still", "packages", reference, find, sort],
    (cursor) =>
      answer(
        http.GET("/api/v1/versions/{reference}/packages", {
          params: { path: { reference }, query: { find: find || undefined, sort, limit: 200, cursor, total: !cursor } },
        }),
      ),
    { placeholderData: keepPreviousData },
  );
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  if (!pages.rows.length && !find) return <Empty>No package manager that is understood was found on this disk.</Empty>;
  return (
    <>
      <div className="max-w-sm">
        <TextField
          label="Search the packages"
          type="search"
          value={text}
          onChange={(e) => setText(e.target.value)}
          hint={plural(pages.total ?? pages.rows.length, "package")}
        />
      </div>
      <Table
        label="Packages"
        rows={pages.rows}
        order={order}
        id={(row) => `${row.name} ${row.version} ${row.architecture}`}
        columns={[
          {
            head: "package",
            sort: "name",
            cell: (row) => <Link to={`/packages?name=${encodeURIComponent(row.name)}`}>{row.name}</Link>,
          },
          { head: "version", cell: (row) => row.version },
          { head: "architecture", cell: (row) => row.architecture },
          { head: "manager", sort: "manager", cell: (row) => row.manager },
        ]}
      />
      <More pages={pages} />
    </>
  );
}
