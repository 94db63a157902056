import clsx from "clsx";
import type { ReactNode } from "react";
import { useColumns } from "./columns";
import { ariaSort, SortHead, type Order } from "./sorted";

/** `sort` is the service's name of the order by this column. */
export type Column<Row> = {
  head: string;
  cell: (row: Row) => ReactNode;
  number?: boolean;
  wide?: boolean;
  sort?: string;
};

type Given<Row> = { columns: Column<Row>[]; rows: Row[]; id: (row: Row) => string; label: string; order?: Order };

/** Hair lines, no boxes; numbers to the right. */
export function Table<Row>({ columns, rows, id, label, order }: Given<Row>) {
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label={label}>
      <table className={clsx("w-full border-collapse text-left", columns.length > 4 && "min-w-[36rem]")}>
        <thead>
          <tr className="border-rule text-label text-ink-3 border-b">
            {columns.map((column) => (
              <th
                key={column.head}
                scope="col"
                aria-sort={ariaSort(column.sort, order)}
                className={clsx("py-1.5 pr-4 align-bottom font-semibold last:pr-0", column.number && "text-right")}
              >
                <SortHead head={column.head} by={column.sort} order={order} />
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <tr key={id(row)} className="border-hair border-b align-top">
              {columns.map((column) => (
                <td
                  key={column.head}
                  className={clsx(
                    "py-2 pr-4 last:pr-0",
                    column.number && "text-right tabular-nums",
                    column.wide && "min-w-48",
                  )}
                >
                  {column.cell(row)}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** The same with a choice of columns, which is remembered under the name. */
export function ChosenTable<Row>({ name, ...given }: Given<Row> & { name: string }) {
  const { shown, chooser } = useColumns(name, given.columns);
  return (
    <>
      <div className="flex justify-end">{chooser}</div>
      <Table {...given} columns={shown} />
    </>
  );
}
