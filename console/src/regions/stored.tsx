import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Heading, Moment } from "~/parts/basics";
import { SmallArea } from "~/parts/small-tide";
import { Table } from "~/parts/table";
import { iec, to } from "~/parts/text";

type Series = Schema["StoredSeries"];
const last = (bytes: number[]) => bytes.at(-1) ?? 0;
const total = (one: Series) => last(one.alone) + last(one.shared);

/** The bytes that each line needs of a region's store, and how that went. */
export function Stored({ region }: { region: string }) {
  const { data } = useQuery(ask.storage());
  if (!data) return null;
  const held = data.series.filter((one) => one.region === region && total(one) > 0);
  const lines = held.filter((one) => one.line);
  // All lines together say something where there are several.
  const rows = [...held.filter((one) => !one.line && lines.length > 1), ...lines];
  return (
    <div>
      <Heading>Stored in {region}</Heading>
      {data.measured_at && rows.length ? (
        <>
          <Table
            label={`Stored in ${region}`}
            rows={rows}
            id={(one) => one.line ?? ""}
            columns={[
              {
                head: "line",
                cell: (one) => (one.line ? <Link to={to.line(one.line)}>{one.line}</Link> : <strong>all lines</strong>),
              },
              { head: "needed by it alone", number: true, cell: (one) => iec(last(one.alone)) },
              { head: "shared", number: true, cell: (one) => iec(last(one.shared)) },
              {
                head: `${data.days.length} days`,
                wide: true,
                cell: (one) => <SmallArea lower={one.alone} upper={one.shared} label={`${iec(total(one))} today`} />,
              },
            ]}
          />
          <p className="text-small text-ink-2 mt-1">
            Compressed, each chunk once; measured <Moment at={data.measured_at} />.
          </p>
        </>
      ) : (
        <p className="text-ink-2 py-2">What is stored is measured once a day; nothing was found here yet.</p>
      )}
    </div>
  );
}
