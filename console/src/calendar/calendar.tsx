import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Empty, Heading, Loading, ProblemShown } from "~/parts/basics";
import { Says } from "~/parts/sentence";
import { State } from "~/parts/state";
import { Table } from "~/parts/table";
import { away, day, daysTo, plural, to } from "~/parts/text";
import { TimeLine, type Flag } from "./time-line";

type Due = Schema["Due"];
const others = (due: Due) => Object.entries(due.elsewhere ?? {});
const still = (due: Due) => due.running + others(due).reduce((sum, [, count]) => sum + count, 0);

/** What can I retire, and when?  Dates ahead, and what is in the way of each. */
export function Component() {
  const { data, error } = useQuery(ask.calendar());
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const dated = data.filter((due) => due.retire_on && due.state === "sunset");
  const over = data.filter((due) => due.state !== "sunset");
  const flags = flagsOf(data);
  const next = dated[0];
  const first = next
    ? `${plural(dated.length, "version")} ${dated.length === 1 ? "comes" : "come"} to an end; the next is ${next.reference} on ${day(next.retire_on!)}, which ${plural(still(next), "instance")} still ${still(next) === 1 ? "runs" : "run"}.`
    : "No version comes to an end.";
  return (
    <>
      <Says under="A version retires by itself on its day: it takes no more launches, and what runs keeps running.">
        {first}
      </Says>
      {flags.length > 0 && <TimeLine flags={flags} />}
      {data.length === 0 && (
        <Empty>
          Nothing is announced. To end a version, open it from its <Link to="/lines">line</Link> and announce its end.
        </Empty>
      )}
      {dated.length > 0 && <Heading>Ahead</Heading>}
      {dated.length > 0 && <Dues label="Ahead" dues={dated} />}
      {over.length > 0 && <Heading>Retired, not purged yet</Heading>}
      {over.length > 0 && <Over dues={over} />}
    </>
  );
}

/** Dates ahead: when versions retire, and from when they may be purged if nothing else is in the way. */
function flagsOf(dues: Due[]): Flag[] {
  const retire = dues
    .filter((due) => due.retire_on && due.state === "sunset")
    .map((due): Flag => ({ reference: due.reference, on: due.retire_on!, what: "retires" }));
  const purge = dues
    .filter((due) => due.purge_from && daysTo(due.purge_from) > 0)
    .map((due): Flag => ({ reference: due.reference, on: due.purge_from!, what: "may be purged" }));
  return [...retire, ...purge].sort((a, b) => a.on.localeCompare(b.on));
}

function Over({ dues }: { dues: Due[] }) {
  return (
    <Table
      label="Retired, not purged yet"
      rows={dues}
      id={(due) => due.reference}
      columns={[
        { head: "version", cell: (due) => <Link to={to.version(due.reference)}>{due.reference}</Link> },
        { head: "state", cell: (due) => <State state={due.state} /> },
        { head: "still running", number: true, cell: (due) => still(due) },
        {
          head: "may be purged",
          cell: (due) =>
            due.purge_from && (daysTo(due.purge_from) > 0 ? `from ${day(due.purge_from)}` : "its grace is over"),
        },
        {
          head: "what is in the way",
          cell: (due) => due.in_the_way.join(" ") || (due.purge_from ? "nothing" : "its owner decides"),
        },
      ]}
    />
  );
}

function Dues({ label, dues }: { label: string; dues: Due[] }) {
  return (
    <Table
      label={label}
      rows={dues}
      id={(due) => due.reference}
      columns={[
        {
          head: "when",
          cell: (due) =>
            due.retire_on ? (
              <span className={daysTo(due.retire_on) <= 21 ? "text-heed" : ""}>
                <span className="font-semibold">{day(due.retire_on)}</span>, {away(due.retire_on)}
              </span>
            ) : (
              "no day is set"
            ),
        },
        { head: "version", cell: (due) => <Link to={to.version(due.reference)}>{due.reference}</Link> },
        { head: "state", cell: (due) => <State state={due.state} /> },
        {
          head: "still running",
          number: true,
          cell: (due) =>
            due.running ? <Link to={to.instances({ reference: due.reference })}>{due.running} of yours</Link> : 0,
        },
        {
          head: "of others",
          cell: (due) =>
            others(due)
              .map(([account, count]) => `${count} of ${account}`)
              .join(", "),
        },
        {
          head: "what to do",
          cell: (due) =>
            due.newest ? (
              <Link to={to.launch(`${due.reference.split("@")[0]}@${due.newest}`)}>
                Launch {due.newest} in their place
              </Link>
            ) : (
              "Its line offers no newer version."
            ),
        },
      ]}
    />
  );
}
