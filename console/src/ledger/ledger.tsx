import { useMutation, useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { useSearchParams } from "react-router";
import { answer, http } from "~/api/client";
import { ask } from "~/api/queries";
import { Button, Loading, ProblemShown } from "~/parts/basics";
import { Choice, TextField } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { Says } from "~/parts/sentence";
import { EventRows } from "./event-rows";

const kinds = [
  "version",
  "instance",
  "capture",
  "operation",
  "share",
  "finding",
  "hold",
  "mark",
  "line",
  "alert",
  "placement",
  "rule",
  "allowance",
  "member",
  "token",
  "key",
  "notice",
];

/** What happened?  The audit trail with filters. */
export function Component() {
  const [search, setSearch] = useSearchParams();
  const subject = search.get("subject") ?? "";
  const action = search.get("action") ?? "";
  const [text, setText] = useState(subject);
  const asked = { subject: subject || undefined, action: action || undefined };
  const pages = usePages(["events", asked], (cursor) =>
    answer(http.GET("/api/v1/events", { params: { query: { ...asked, limit: 100, cursor } } })),
  );
  const change = (given: Record<string, string>) => {
    const next = { subject, action, ...given };
    setSearch(Object.fromEntries(Object.entries(next).filter(([, value]) => value)), { replace: true });
  };
  const look = (event: FormEvent) => {
    event.preventDefault();
    change({ subject: text.trim() });
  };
  return (
    <>
      <Says under={<Chain />}>{subject ? `What happened to ${subject}.` : "What happened, newest first."}</Says>
      <form onSubmit={look} className="mt-4 flex flex-wrap items-start gap-x-4">
        <div className="w-80">
          <TextField
            label="About"
            value={text}
            onChange={(e) => setText(e.target.value)}
            placeholder="gauge-collector@1.3.0"
            hint="A line, a version or a name; Enter searches."
          />
        </div>
        <div className="w-48">
          <Choice
            label="Kind"
            value={action}
            onChange={(e) => change({ action: e.target.value })}
            options={[["", "everything"], ...kinds.map((kind): [string, string] => [kind, kind])]}
            hint=" "
          />
        </div>
      </form>
      {pages.error && <ProblemShown problem={pages.error} />}
      {pages.pending ? <Loading /> : <EventRows events={pages.rows} empty="Nothing fits." />}
      <More pages={pages} title="Earlier" />
    </>
  );
}

type Followed = { whole: boolean; events: number; missing: string; broken_at: number[] };

/** Whether each event follows from the one before: an operation reads the trail when somebody wants to know. */
function Chain() {
  const [id, setId] = useState("");
  const begin = useMutation({
    mutationFn: () => answer(http.POST("/api/v1/event-checks")),
    onSuccess: (operation) => setId(operation.id),
  });
  const { data: operation } = useQuery({ ...ask.operation(id), enabled: id !== "" });
  if (operation?.state === "succeeded") {
    const found = operation.result as Followed;
    return (
      <>
        {found.whole
          ? `The trail is whole: each of its ${found.events} events follows from the one before.`
          : found.missing || `The trail is broken at event ${found.broken_at[0]}.`}
      </>
    );
  }
  const ended = operation?.state === "failed" || operation?.state === "cancelled";
  const busy = begin.isPending || (id !== "" && !ended);
  return (
    <>
      {ended ? `The check ${operation.state}. ` : "Each event is chained to the one before by its digest. "}
      <Button kind="quiet" onClick={() => begin.mutate()} disabled={busy}>
        {busy ? "Checking …" : "Check the chain"}
      </Button>
      {begin.error && <ProblemShown problem={begin.error} />}
    </>
  );
}
