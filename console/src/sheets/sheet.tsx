import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { answer, http } from "~/api/client";
import { ask } from "~/api/queries";
import { Facts, Heading, Loading, Moment, ProblemShown, Short } from "~/parts/basics";
import { Offers } from "~/parts/offers";
import { Page } from "~/parts/page";
import { Says } from "~/parts/sentence";
import { Table } from "~/parts/table";
import { ahead, iec, plural, to } from "~/parts/text";
import { nextRun } from "./next-run";
import { PartUsed } from "./part-used";
import { runColumns } from "./run-columns";
import { ChangeDialog } from "./change-dialog";
import { DropDialog, RunDialog } from "./sheet-dialogs";
import { Difference, SheetText } from "./sheet-text";

/** One sheet: what it makes and when, its runs, its text, and the texts before. */
export function Component() {
  const name = useParams().name ?? "";
  const cache = useQueryClient();
  const { data: sheet, error } = useQuery(ask.sheet(name));
  const [asked, setAsked] = useState("");
  const [problem, setProblem] = useState<unknown>(null);
  const [shown, setShown] = useState(0);
  if (error) return <ProblemShown problem={error} />;
  if (!sheet) return <Loading />;
  const isPart = sheet.kind === "part";
  const act = (verb: string) => {
    if (verb !== "pause" && verb !== "resume") return setAsked(verb);
    const body = { paused: verb === "pause" };
    answer(http.PUT("/api/v1/saved-sheets/{name}/pause", { params: { path: { name } }, body }))
      .then(() => cache.invalidateQueries())
      .catch(setProblem);
  };
  const close = () => setAsked("");
  return (
    <Page aside={<Offers offers={sheet.offers} act={act} />}>
      <Says under={sheet.noted ? `Last time it made no run: ${sheet.noted}` : undefined}>
        {isPart
          ? `${sheet.name} is a part: sheets that include it do its steps.`
          : `${sheet.name} makes versions of ${sheet.line} from ${sheet.base}; it ${sheet.paused ? "is paused" : sheet.withdrawn ? "is not in its repository any more" : `runs ${sheet.next_at ? "next " : ""}${nextRun(sheet)}`}.`}
      </Says>
      {problem !== null && <ProblemShown problem={problem} />}
      <Facts
        rows={[
          [
            "Makes",
            sheet.line && (
              <Link key="l" to={to.line(sheet.line)}>
                {sheet.line}
              </Link>
            ),
          ],
          ...sheet.parts.map((use): [string, React.ReactNode] => [
            `Part ${use.name}`,
            <PartUsed key={use.name} use={use} sheet={sheet} />,
          ]),
          ...Object.entries(sheet.values).map(([key, value]): [string, string] => [key, String(value)]),
          ...Object.entries(sheet.files).map(([key, file]): [string, React.ReactNode] => [
            key,
            <span key={key}>
              {iec(file.bytes)}, <Short text={`sha256:${file.sha256}`} keep={16} />
            </span>,
          ]),
          ["Repository", sheet.repository && `${sheet.repository}: ${sheet.path}`],
          ["Commit", sheet.commit && <Short key="c" text={sheet.commit} keep={12} />],
          ["Next dates, in your time", sheet.dates.map(ahead).join("; ")],
          ["Time zone of its dates", sheet.zone],
          [
            "Saved",
            <span key="s">
              <Moment at={sheet.saved_at} /> by {sheet.saved_by}, text {sheet.number}
            </span>,
          ],
        ]}
      />
      {!isPart && (
        <>
          <Heading>Runs</Heading>
          {sheet.runs.length ? (
            <Table label="Runs" rows={sheet.runs} id={(run) => run.operation} columns={runColumns("reference")} />
          ) : (
            <p className="text-ink-2">It has not run yet.</p>
          )}
        </>
      )}
      <Heading>{isPart ? "The part" : "The sheet"}</Heading>
      <SheetText text={sheet.text} />
      {sheet.texts.length > 1 && (
        <>
          <Heading>Earlier texts</Heading>
          <Table
            label="Earlier texts"
            rows={sheet.texts}
            id={(text) => String(text.number)}
            columns={[
              { head: "text", cell: (text) => <span className="font-semibold">{text.number}</span> },
              { head: "saved", cell: (text) => <Moment at={text.saved_at} /> },
              { head: "by", cell: (text) => text.saved_by },
              { head: "note", wide: true, cell: (text) => text.note },
              {
                head: "",
                cell: (text) =>
                  text.number > 1 && (
                    <button
                      type="button"
                      className="text-link whitespace-nowrap hover:underline"
                      aria-label={`${shown === text.number ? "Hide what changed" : "What changed"} in text ${text.number}`}
                      onClick={() => setShown(shown === text.number ? 0 : text.number)}
                    >
                      {shown === text.number ? "Hide what changed" : "What changed"}
                    </button>
                  ),
              },
            ]}
          />
          {shown > 0 && <Changed name={name} number={shown} />}
        </>
      )}
      {asked === "run" && <RunDialog sheet={sheet} close={close} />}
      {asked === "change" && <ChangeDialog sheet={sheet} close={close} />}
      {asked === "drop" && <DropDialog sheet={sheet} close={close} />}
    </Page>
  );
}

function Changed({ name, number }: { name: string; number: number }) {
  const { data } = useQuery(ask.sheetDifference(name, number));
  if (!data) return <Loading />;
  const values = Object.entries(data.values);
  return (
    <div className="mt-3">
      {values.map(([key, [old, next]]) => (
        <p key={key} className="text-small">
          {key}: {String(old)} → {String(next)}
        </p>
      ))}
      {data.files.length > 0 && (
        <p className="text-small">
          {plural(data.files.length, "file")} of the payload: {data.files.join(", ")}
        </p>
      )}
      {data.lines.length > 0 ? (
        <Difference lines={data.lines} />
      ) : (
        <p className="text-small text-ink-2">The text itself is the same.</p>
      )}
    </div>
  );
}
