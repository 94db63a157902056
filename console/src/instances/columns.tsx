import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { Moment } from "~/parts/basics";
import { State } from "~/parts/state";
import { to } from "~/parts/text";

type Instance = Schema["Instance"];
export type InstanceColumn = { head: string; width: string; sort?: string; cell: (row: Instance) => ReactNode };

/** What is shown of each instance; `sort` is the service's name of the order. */
export const instanceColumns: InstanceColumn[] = [
  {
    head: "instance",
    width: "minmax(9rem,1.4fr)",
    sort: "name",
    cell: (row) => (
      <Link to={to.instance(row.id)} className="text-ink font-semibold">
        {row.name}
      </Link>
    ),
  },
  { head: "state", width: "minmax(7rem,1fr)", sort: "state", cell: (row) => <State state={row.state} /> },
  {
    head: "version",
    width: "minmax(12rem,1.6fr)",
    sort: "version",
    cell: (row) => (
      <>
        <Link to={to.version(row.reference)}>{row.reference}</Link>
        {row.behind > 0 && <span className="text-heed"> {row.newest} is newer</span>}
      </>
    ),
  },
  {
    head: "region",
    width: "minmax(7rem,1fr)",
    sort: "region",
    cell: (row) => (
      <>
        {row.region} <span className="text-ink-3">{row.zone.replace(row.region, "").replace("-", "")}</span>
      </>
    ),
  },
  { head: "address", width: "minmax(8rem,1fr)", cell: (row) => row.address },
  {
    head: "launched",
    width: "minmax(6rem,0.8fr)",
    sort: "launched",
    cell: (row) => <Moment at={row.launched_at} />,
  },
];
