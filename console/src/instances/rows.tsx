import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useRef, useState } from "react";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { Moment } from "~/parts/basics";
import { State } from "~/parts/state";
import { to } from "~/parts/text";

const HEIGHT = 36;
const columns =
  "grid grid-cols-[minmax(9rem,1.4fr)_minmax(7rem,1fr)_minmax(12rem,1.6fr)_minmax(7rem,1fr)_minmax(8rem,1fr)_minmax(6rem,0.8fr)] gap-x-4";

/** Rows of which only those in sight are drawn; asks for more when the end comes near. */
export function Rows({ rows, more }: { rows: Schema["Instance"][]; more?: () => void }) {
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
  return (
    <div className="overflow-x-auto" tabIndex={0} role="region" aria-label="Instances">
      <div role="table" aria-label="Instances" aria-rowcount={rows.length + 1} className="min-w-[54rem]">
        <div role="row" className={`${columns} border-rule text-label text-ink-3 border-b py-1.5 font-semibold`}>
          {["instance", "state", "version", "region", "address", "launched"].map((head) => (
            <span key={head} role="columnheader">
              {head}
            </span>
          ))}
        </div>
        <div ref={list} role="rowgroup" className="relative" style={{ height: virtual.getTotalSize() }}>
          {seen.map((item) => (
            <Row
              key={item.key}
              row={rows[item.index]!}
              place={item.index}
              top={item.start - virtual.options.scrollMargin}
            />
          ))}
        </div>
      </div>
    </div>
  );
}

function Row({ row, place, top }: { row: Schema["Instance"]; place: number; top: number }) {
  return (
    <div
      role="row"
      aria-rowindex={place + 2}
      className={`${columns} border-hair absolute inset-x-0 items-center border-b whitespace-nowrap`}
      style={{ height: HEIGHT, transform: `translateY(${top}px)` }}
    >
      <span role="cell" className="overflow-hidden text-ellipsis">
        <Link to={to.instance(row.id)} className="text-ink font-semibold">
          {row.name}
        </Link>
      </span>
      <span role="cell">
        <State state={row.state} />
      </span>
      <span role="cell" className="overflow-hidden text-ellipsis">
        <Link to={to.version(row.reference)}>{row.reference}</Link>
        {row.behind > 0 && <span className="text-heed"> {row.newest} is newer</span>}
      </span>
      <span role="cell">
        {row.region} <span className="text-ink-3">{row.zone.replace(row.region, "").replace("-", "")}</span>
      </span>
      <span role="cell">{row.address}</span>
      <span role="cell">
        <Moment at={row.launched_at} />
      </span>
    </div>
  );
}
