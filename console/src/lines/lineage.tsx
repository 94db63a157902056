import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { ask } from "~/api/queries";
import { Heading } from "~/parts/basics";
import { to } from "~/parts/text";

type Row = { key: string; depth: number; reference: string; about: string; heed: boolean };

/** What a line is built on, and what is built on it; nothing for a line that stands alone. */
export function Lineage({ name }: { name: string }) {
  const { data } = useQuery(ask.lineage(name));
  if (!data || (!data.bases.length && !data.built.length)) return null;
  const above = [...data.bases].reverse();
  const rows: Row[] = [
    ...above.map((base, depth) => ({
      key: base.reference,
      depth,
      reference: base.reference,
      about: base.moved ? `${base.newest ?? ""} is out` : "",
      heed: base.moved,
    })),
    { key: "line", depth: above.length, reference: data.newest ?? name, about: "this line", heed: false },
    ...data.built.map((line) => ({
      key: line.reference,
      depth: above.length + line.depth,
      reference: line.reference,
      about: `${line.behind ? "behind" : "from"} ${line.base}${line.sheet ? `, by sheet ${line.sheet}` : ""}`,
      heed: line.behind,
    })),
  ];
  return (
    <>
      <Heading>What is built on what</Heading>
      <ol aria-label="Lineage">
        {rows.map((row) => (
          <li
            key={row.key}
            className="border-hair flex flex-wrap gap-x-4 border-b py-1.5"
            style={{ paddingLeft: `${row.depth * 1.5}rem` }}
          >
            <Link to={row.reference.includes("@") ? to.version(row.reference) : to.line(row.reference)}>
              {row.depth > 0 && <span aria-hidden>└ </span>}
              {row.reference}
            </Link>
            <span className={row.heed ? "text-heed" : "text-ink-2"}>{row.about}</span>
          </li>
        ))}
      </ol>
    </>
  );
}
