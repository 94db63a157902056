import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Button, Empty, Heading, Loading, Moment, ProblemShown } from "~/parts/basics";
import { useSession } from "~/app/session";
import { Confirm } from "~/parts/dialog";
import { TextField } from "~/parts/form";
import { Page } from "~/parts/page";
import { GoingOn } from "~/parts/progress";
import { Sentence } from "~/parts/sentence";
import { SmallTide } from "~/parts/small-tide";
import { Table } from "~/parts/table";
import { away, day, daysTo, pieces, plural, to } from "~/parts/text";

type Overview = Schema["Overview"];
type Need = Schema["Need"];

/** Is anything wrong or waiting for me?  And what goes on now? */
export function Component() {
  const { data, error } = useQuery(ask.overview());
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const now = new Date().toLocaleDateString("en-GB", { weekday: "long", day: "numeric", month: "long" });
  return (
    <Page aside={<Aside overview={data} />} last>
      <Sentence
        parts={data.sentence}
        leads={{ needs: "#needs", dates: "#dates", instances: "/instances" }}
        under={now}
      />
      <Needs needs={data.needs} />
      <Dates dates={data.dates} />
      <Lines overview={data} />
    </Page>
  );
}

const leads: Record<Need["kind"], (need: Need) => string> = {
  operation: (need) => to.operation(need.subject),
  alert: () => "/ledger?action=alert",
  finding: (need) => to.version(need.subject, "findings"),
  share: () => "/people?show=shares",
  date: (need) => to.instances({ reference: need.subject }),
  allowance: () => "/people?show=rules",
  line: (need) => to.line(need.subject),
  version: (need) => to.version(need.subject),
  instance: (need) => to.instance(encodeURIComponent(need.subject)),
  region: () => "/regions",
  repository: () => "/sheets",
  sheet: (need) => to.sheet(need.subject),
  messages: () => "/people?show=messages",
};

function Needs({ needs }: { needs: Need[] }) {
  const cache = useQueryClient();
  const { may } = useSession();
  const [asked, setAsked] = useState<Need | null>(null);
  const [reason, setReason] = useState("");
  const close = () => setAsked(null);
  const seen = async () => {
    const path = { alert: asked!.alert! };
    await answer(http.POST("/api/v1/alerts/{alert}/acknowledgement", { params: { path }, body: { reason } }));
    await cache.invalidateQueries({ queryKey: ["overview"] });
  };
  const heed = (need: Need) => {
    setReason("");
    setAsked(need);
  };
  if (!needs.length) return null;
  return (
    <>
      {asked && (
        <Confirm title={asked.title} about={asked.detail} verb="I have seen it" act={seen} close={close}>
          <TextField
            label="Why it may be"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            hint="Kept with the alert and in the audit trail."
          />
        </Confirm>
      )}
      <ol id="needs" className="mt-5" aria-label="What needs you">
        {needs.map((need, place) => (
          <li
            key={`${need.kind} ${need.subject} ${need.title}`}
            className="border-hair grid grid-cols-[1.75rem_1fr_auto] gap-x-1 border-b py-2.5"
          >
            <span className="text-heed font-semibold">{place + 1}</span>
            <div>
              <p className="font-semibold">{need.title}</p>
              <p className="text-ink-2">{need.detail}</p>
            </div>
            <span className="flex flex-col items-end gap-1 pl-3">
              <Link
                to={leads[need.kind](need)}
                className="font-semibold whitespace-nowrap"
                aria-label={`${need.step}: ${need.title}`}
              >
                {need.step}
              </Link>
              {need.alert && may("operate") && (
                <Button
                  kind="quiet"
                  className="text-small"
                  onClick={() => heed(need)}
                  aria-label={`I have seen it: ${need.title}`}
                >
                  I have seen it
                </Button>
              )}
            </span>
          </li>
        ))}
      </ol>
    </>
  );
}

function Dates({ dates }: { dates: Schema["Due"][] }) {
  if (!dates.length) return null;
  return (
    <>
      <Heading
        id="dates"
        aside={
          <Link to="/calendar" className="text-small">
            All dates
          </Link>
        }
      >
        Dates that come near
      </Heading>
      <Table
        label="Dates that come near"
        rows={dates}
        id={(due) => due.reference}
        columns={[
          {
            head: "when",
            cell: (due) => (
              <span className={daysTo(due.retire_on!) <= 21 ? "text-heed" : ""}>
                <span className="font-semibold">{day(due.retire_on!)}</span>, {away(due.retire_on!)}
              </span>
            ),
          },
          {
            head: "what",
            cell: (due) => (
              <>
                <Link to={to.version(due.reference)}>{due.reference}</Link> retires
              </>
            ),
          },
          {
            head: "still running",
            number: true,
            cell: (due) => due.running + Object.values(due.elsewhere ?? {}).reduce((a, b) => a + b, 0),
          },
          { head: "whose", cell: (due) => <Whose due={due} /> },
        ]}
      />
    </>
  );
}

function Whose({ due }: { due: Schema["Due"] }) {
  const others = Object.entries(due.elsewhere ?? {}).map(([account, count]) => `${count} of ${account}`);
  return <>{[...(due.running ? [`${due.running} of yours`] : []), ...others].join(", ")}</>;
}

function Lines({ overview }: { overview: Overview }) {
  return (
    <>
      <Heading
        aside={
          <Link to="/lines" className="text-small">
            All lines
          </Link>
        }
      >
        Lines
      </Heading>
      {overview.lines.length ? (
        <Table
          label="Lines"
          rows={overview.lines}
          id={(line) => line.name}
          columns={[
            {
              head: "line",
              cell: (line) => (
                <Link to={to.line(line.name)} className="text-ink font-semibold">
                  {line.name}
                </Link>
              ),
            },
            { head: "newest", cell: (line) => line.newest ?? "no release" },
            { head: "running", number: true, cell: (line) => line.running },
            {
              head: "behind",
              number: true,
              cell: (line) =>
                line.behind ? <Link to={to.instances({ line: line.name, behind: "true" })}>{line.behind}</Link> : 0,
            },
            {
              head: overview.days.length > 1 ? `${day(overview.days[0]!)} to today` : "today",
              wide: true,
              cell: (line) => <SmallTide current={line.current} older={line.older} />,
            },
          ]}
        />
      ) : (
        <Empty>
          There is no line yet. A line is a named sequence of versions for one purpose:{" "}
          <Link to="/lines">make the first one</Link>, then capture a machine into it.
        </Empty>
      )}
    </>
  );
}

function Aside({ overview }: { overview: Overview }) {
  const { data: regions } = useQuery(ask.regions());
  return (
    <>
      <GoingOn operations={overview.running_operations} />
      <section aria-label="Regions">
        <Heading
          aside={
            <Link to="/regions" className="text-small">
              More
            </Link>
          }
        >
          Regions
        </Heading>
        <ul>
          {(regions ?? []).map((region) => {
            const [used = 0, most = 0] = region.quotas.machines ?? [];
            const room = most - used;
            return (
              <li
                key={region.name}
                className="border-hair text-small grid grid-cols-[1fr_auto_6.5rem] gap-x-4 border-b py-1.5"
              >
                <span>{region.name}</span>
                <span className="text-right">{plural(region.running, "instance")}</span>
                <span className={`text-right ${!region.reachable || room < most * 0.1 ? "text-heed" : ""}`}>
                  {region.reachable ? `room for ${room}` : "out"}
                </span>
              </li>
            );
          })}
        </ul>
      </section>
      <section aria-label="Last in the ledger">
        <Heading
          aside={
            <Link to="/ledger" className="text-small">
              All of it
            </Link>
          }
        >
          Last in the ledger
        </Heading>
        <ul className="text-small text-ink-2">
          {overview.last_events.map((event) => (
            <li key={event.id} className="mb-1.5">
              <span className="text-ink font-semibold">{event.actor}</span> {event.action.replace(".", " ")}{" "}
              <Subject of={event.subject} />, <Moment at={event.at} />
            </li>
          ))}
        </ul>
      </section>
    </>
  );
}

function Subject({ of }: { of: string }) {
  return /^[\w/.-]+@\d/.test(of) && pieces(of).number ? (
    <Link to={to.version(of)} className="whitespace-nowrap">
      {of}
    </Link>
  ) : (
    <span className="text-ink">{of}</span>
  );
}
