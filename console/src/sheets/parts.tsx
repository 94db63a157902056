import { Link } from "react-router";
import { answer, http } from "~/api/client";
import { Heading, Moment, ProblemShown } from "~/parts/basics";
import { More, usePages } from "~/parts/paged";
import { Table } from "~/parts/table";
import { to } from "~/parts/text";

/** The parts that sheets include; nothing where there is none. */
export function Parts() {
  const parts = usePages(["saved-sheets", "parts"], (cursor) =>
    answer(http.GET("/api/v1/saved-sheets", { params: { query: { limit: 100, cursor, kind: "part" } } })),
  );
  if (parts.error) return <ProblemShown problem={parts.error} />;
  if (parts.pending || parts.rows.length === 0) return null;
  return (
    <>
      <Heading>Parts that sheets include</Heading>
      <Table
        label="Parts"
        rows={parts.rows}
        id={(part) => part.name}
        columns={[
          {
            head: "part",
            cell: (part) => (
              <Link to={to.sheet(part.name)} className="text-ink font-semibold whitespace-nowrap">
                {part.name}
              </Link>
            ),
          },
          { head: "text", cell: (part) => part.number },
          {
            head: "saved",
            cell: (part) => (
              <span className="whitespace-nowrap">
                <Moment at={part.saved_at} />
              </span>
            ),
          },
          { head: "by", wide: true, cell: (part) => part.saved_by },
        ]}
      />
      <More pages={parts} />
    </>
  );
}
