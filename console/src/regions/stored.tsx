import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { ask } from "~/api/queries";
import { Heading, Moment } from "~/parts/basics";
import { SmallArea } from "~/parts/small-tide";
import { Table } from "~/parts/table";
import { iec, plural, to } from "~/parts/text";

const last = (bytes: number[]) => bytes.at(-1) ?? 0;

/** The bytes that each line needs of each region's store, and how that went. */
export function Stored() {
  const { data } = useQuery(ask.storage());
  if (!data) return null;
  const held = data.series.filter((one) => last(one.alone) + last(one.shared) > 0);
  const lines = (region: string) => held.filter((one) => one.region === region && one.line).length;
  const rows = held.filter((one) => one.line || lines(one.region) > 1);
  if (!data.measured_at || !rows.length)
    return <p className="text-ink-2 mt-4">What is stored is measured once a day, and has not been yet.</p>;
  const order = (line?: string | null) => (line ? `1${line}` : "0");
  rows.sort((a, b) => a.region.localeCompare(b.region) || order(a.line).localeCompare(order(b.line)));
  return (
    <section className="mt-6">
      <Heading>What is stored</Heading>
      <p className="text-small text-ink-2">
        Compressed, each chunk once. Measured <Moment at={data.measured_at} />; {plural(data.days.length, "day")} on
        record.
      </p>
      <Table
        label="What is stored"
        rows={rows}
        id={(one) => `${one.region} ${one.line}`}
        columns={[
          { head: "region", cell: (one) => one.region },
          {
            head: "line",
            cell: (one) => (one.line ? <Link to={to.line(one.line)}>{one.line}</Link> : <strong>all lines</strong>),
          },
          { head: "needed by it alone", number: true, cell: (one) => iec(last(one.alone)) },
          { head: "shared with others", number: true, cell: (one) => iec(last(one.shared)) },
          {
            head: "over time",
            wide: true,
            cell: (one) => (
              <SmallArea
                lower={one.alone}
                upper={one.shared}
                label={`${iec(last(one.alone) + last(one.shared))} today`}
              />
            ),
          },
        ]}
      />
    </section>
  );
}
