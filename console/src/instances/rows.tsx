import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useRef, useState } from "react";
import type { Schema } from "~/api/client";
import { ariaSort, SortHead, type Order } from "~/parts/sorted";
import type { InstanceColumn } from "./columns";

const HEIGHT = 36;
const row = "grid items-center gap-x-4";

export type Choice = {
  has: (id: string) => boolean;
  set: (id: string, on: boolean) => void;
  all: (on: boolean) => void;
};
type Given = {
  rows: Schema["Instance"][];
  columns: InstanceColumn[];
  /** Which are chosen; undefined where nobody may act. */
  choice?: Choice;
  order: Order;
  more?: () => void;
};

/** Rows of which only those in sight are drawn; asks for more when the end comes near. */
export function Rows({ rows, columns, choice, order, more }: Given) {
  const list = useRef<HTMLDivElement>(null);
  const [top, setTop] = useState(0);
  useLayoutEffect(() => setTop(list.current?.offsetTop ?? 0), []);
  const virtual = useWindowVirtualizer({
    count: rows.length,
    estimateSize: () => HEIGHT,
    overscan: 12,
    scrollMargin: top,
  });
  const seen = virtual.getVirtualItems();
  const last = seen.at(-1)?.index ?? 0;
  useEffect(() => {
    if (more && last > rows.length - 60) more();
  }, [last, rows.length, more]);
  const grid = { gridTemplateColumns: `${choice ? "1.25rem " : ""}${columns.map((c) => c.width).join(" ")}` };
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Instances">
      <div role="table" aria-label="Instances" aria-rowcount={rows.length + 1} className="min-w-[54rem]">
        <div
          role="row"
          className={`${row} border-rule text-label text-ink-3 border-b py-1.5 font-semibold`}
          style={grid}
        >
          {choice && (
            <span role="columnheader">
              <input
                type="checkbox"
                className="accent-link"
                aria-label="Choose all that are loaded"
                checked={rows.length > 0 && rows.every((one) => choice.has(one.id))}
                onChange={(e) => choice.all(e.target.checked)}
              />
            </span>
          )}
          {columns.map((column) => (
            <Head key={column.head} column={column} order={order} />
          ))}
        </div>
        <div ref={list} role="rowgroup" className="relative" style={{ height: virtual.getTotalSize() }}>
          {seen.map((item) => {
            const one = rows[item.index]!;
            return (
              <div
                key={item.key}
                role="row"
                aria-rowindex={item.index + 2}
                className={`${row} border-hair absolute inset-x-0 border-b whitespace-nowrap`}
                style={{
                  ...grid,
                  height: HEIGHT,
                  transform: `translateY(${item.start - virtual.options.scrollMargin}px)`,
                }}
              >
                {choice && (
                  <span role="cell">
                    <input
                      type="checkbox"
                      className="accent-link"
                      aria-label={`Choose ${one.name}`}
                      checked={choice.has(one.id)}
                      onChange={(e) => choice.set(one.id, e.target.checked)}
                    />
                  </span>
                )}
                {columns.map((column) => (
                  <span key={column.head} role="cell" className="overflow-hidden text-ellipsis">
                    {column.cell(one)}
                  </span>
                ))}
              </div>
            );
          })}
        </div>
      </div>
    </div>
  );
}

function Head({ column, order }: { column: InstanceColumn; order: Order }) {
  return (
    <span role="columnheader" aria-sort={ariaSort(column.sort, order)}>
      <SortHead head={column.head} by={column.sort} order={order} />
    </span>
  );
}
