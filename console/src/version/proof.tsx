import { useQuery } from "@tanstack/react-query";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Button, Empty, Facts, Loading, ProblemShown, Short } from "~/parts/basics";
import { Table } from "~/parts/table";
import { iec, plural } from "~/parts/text";

type Sheet = Schema["Proof"];
type Held = Schema["Held"] | null;

const outcomes = { none: "none", gone: "gone", left: "there", unknown: "not known" };

/** Class by class what of the source was on its disk, what was done about it, and what is in the version. */
export function Proof({ reference }: { reference: string }) {
  const { data, error } = useQuery(ask.proof(reference));
  if (error && "code" in error && error.code === "no-proof") return <Empty>{error.message}</Empty>;
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  return (
    <>
      <p className="text-small text-ink-2 mb-3">
        What was there was counted on the copy before it was changed; what is there now, on the stored bytes.
      </p>
      <Table
        label="Proof sheet"
        rows={data.rows}
        id={(row) => row.name}
        columns={[
          { head: "what", cell: (row) => row.title },
          { head: "was there", cell: (row) => held(row, row.before) },
          { head: "done", cell: (row) => <span className="text-ink-2">{row.done.join("; ")}</span> },
          { head: "is there now", cell: (row) => held(row, row.after) },
          {
            head: "outcome",
            cell: (row) => (
              <span className={row.outcome === "gone" ? "text-fair font-semibold" : undefined}>
                {outcomes[row.outcome]}
              </span>
            ),
          },
        ]}
      />
      <div className="mt-5">
        <Facts
          rows={[
            ["Before", before(data)],
            ["Now", `${iec(data.used_after)} stored, ${iec(data.disk_bytes - data.used_after)} read as zeros`],
            ["Disk", iec(data.disk_bytes)],
            ["Signed as", data.digest && <Short key="d" text={data.digest} keep={24} />],
          ]}
        />
      </div>
      <Button className="mt-4 print:hidden" onClick={() => window.print()}>
        Print this page
      </Button>
    </>
  );
}

/** Classes of which paths or findings are counted, and no bytes. */
const withoutBytes = ["host-name", "secrets"];

function held(row: Sheet["rows"][number], what: Held) {
  if (!what) return <span className="text-ink-3">not counted</span>;
  if (!what.paths) return "nothing";
  const count = plural(what.paths, row.name === "secrets" ? "finding" : "path");
  if (withoutBytes.includes(row.name)) return count;
  return (
    <>
      {count}, <span className="whitespace-nowrap">{what.bytes ? iec(what.bytes) : "empty"}</span>
    </>
  );
}

function before(sheet: Sheet) {
  if (sheet.used_before === null) return null;
  const swap = sheet.swap_before ?? 0;
  const free = sheet.disk_bytes - sheet.used_before - swap;
  return `${iec(sheet.used_before)} in use, ${iec(swap)} swap, ${iec(free)} free`;
}
