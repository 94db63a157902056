import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, type Schema } from "~/api/client";
import { useSession } from "~/app/session";
import { Button, Empty, Heading, Loading, Moment, ProblemShown } from "~/parts/basics";
import { Confirm, ShownOnce } from "~/parts/dialog";
import { Choice, NameField, TextField } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { Table } from "~/parts/table";
import { plural } from "~/parts/text";

type Subscription = Schema["Subscription"];

/** Who is notified of the account's events, and the outcome of the messages. */
export function Messages() {
  const { may, account } = useSession();
  const cache = useQueryClient();
  const pages = usePages(["subscriptions"], (cursor) =>
    answer(http.GET("/api/v1/subscriptions", { params: { query: { limit: 100, cursor } } })),
  );
  const [asked, setAsked] = useState<"add" | Subscription | null>(null);
  const [made, setMade] = useState<Schema["NewSubscription"] | null>(null);
  const [shown, setShown] = useState("");
  const [problem, setProblem] = useState<unknown>(null);
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  const act = async (call: Promise<unknown>) => {
    setProblem(null);
    try {
      await call;
      await cache.invalidateQueries();
    } catch (failed) {
      setProblem(failed);
    }
  };
  const pause = (one: Subscription) =>
    act(
      answer(
        http.PUT("/api/v1/subscriptions/{name}/pause", {
          params: { path: { name: one.name } },
          body: { paused: !one.paused },
        }),
      ),
    );
  const test = (name: string) => {
    setShown(name);
    return act(answer(http.POST("/api/v1/subscriptions/{name}/test", { params: { path: { name } } })));
  };
  return (
    <>
      {may("manage") ? (
        <Button className="mb-3" onClick={() => setAsked("add")}>
          Notify somebody of events
        </Button>
      ) : (
        <p className="text-small text-ink-2">A steward of {account} can set who is notified of events.</p>
      )}
      {problem !== null && <ProblemShown problem={problem} />}
      {pages.rows.length === 0 ? (
        <Empty>There are no subscriptions. A program is notified by a webhook, people by mail.</Empty>
      ) : (
        <Table
          label="Subscriptions"
          rows={pages.rows}
          id={(one) => one.name}
          columns={[
            { head: "name", cell: (one) => <span className="font-semibold whitespace-nowrap">{one.name}</span> },
            { head: "to", wide: true, cell: (one) => <span className="break-all">{whom(one)}</span> },
            {
              head: "of",
              cell: (one) => (
                <>
                  {one.events.join(", ") || "what build sheets name it for"}
                  {one.lines.length > 0 && <span className="text-ink-2"> about {one.lines.join(", ")}</span>}
                </>
              ),
            },
            { head: "state", cell: (one) => <Standing one={one} /> },
            {
              head: "",
              cell: (one) => (
                <span className="flex gap-3">
                  <Button
                    kind="quiet"
                    aria-expanded={shown === one.name}
                    aria-label={`Messages for ${one.name}`}
                    onClick={() => setShown(shown === one.name ? "" : one.name)}
                  >
                    Messages
                  </Button>
                  {may("manage") && (
                    <>
                      <Button kind="quiet" aria-label={`Test ${one.name}`} onClick={() => void test(one.name)}>
                        Test
                      </Button>
                      <Button
                        kind="quiet"
                        aria-label={`${one.paused ? "Resume" : "Pause"} ${one.name}`}
                        onClick={() => void pause(one)}
                      >
                        {one.paused ? "Resume" : "Pause"}
                      </Button>
                      <Button kind="quiet" aria-label={`Remove ${one.name}`} onClick={() => setAsked(one)}>
                        Remove
                      </Button>
                    </>
                  )}
                </span>
              ),
            },
          ]}
        />
      )}
      <More pages={pages} />
      {shown && <Deliveries name={shown} />}
      {asked === "add" && <Add close={() => setAsked(null)} done={setMade} />}
      {asked && asked !== "add" && (
        <Confirm
          title={`Remove ${asked.name}`}
          about={`${whom(asked)} is notified of nothing more; ${plural(asked.pending, "message")} that ${asked.pending === 1 ? "is" : "are"} not delivered yet ${asked.pending === 1 ? "goes" : "go"} too.`}
          verb="Remove it"
          loses
          act={() =>
            act(answer(http.DELETE("/api/v1/subscriptions/{name}", { params: { path: { name: asked.name } } })))
          }
          close={() => setAsked(null)}
        />
      )}
      {made?.key && (
        <ShownOnce
          title={`The key of ${made.name}`}
          about="Its messages are signed with it, as Standard Webhooks has it. It is shown once."
          text={made.key}
          close={() => setMade(null)}
        />
      )}
    </>
  );
}

const whom = (one: Subscription) => one.url ?? (one.mail_to ?? []).join(", ");

function Standing({ one }: { one: Subscription }) {
  if (one.paused) return <>paused</>;
  if (one.answer) return <span className="text-heed font-semibold">not delivered: {one.answer}</span>;
  if (one.pending) return <>{plural(one.pending, "message")} on the way</>;
  return one.delivered_at ? (
    <>
      all delivered, <Moment at={one.delivered_at} />
    </>
  ) : (
    <span className="text-ink-2">nothing sent yet</span>
  );
}

function Deliveries({ name }: { name: string }) {
  const pages = usePages(["deliveries", name], (cursor) =>
    answer(
      http.GET("/api/v1/subscriptions/{name}/deliveries", { params: { path: { name }, query: { limit: 50, cursor } } }),
    ),
  );
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  return (
    <>
      <Heading>Messages for {name}</Heading>
      {pages.rows.length === 0 ? (
        <Empty>No message was sent yet.</Empty>
      ) : (
        <Table
          label={`Messages for ${name}`}
          rows={pages.rows}
          id={(one) => one.id}
          columns={[
            { head: "what", cell: (one) => <span className="font-semibold">{one.action}</span> },
            { head: "about", cell: (one) => one.subject },
            { head: "state", cell: (one) => one.state.replace("-", " ") },
            { head: "attempts", number: true, cell: (one) => one.attempts },
            { head: "answer", wide: true, cell: (one) => one.answer },
            { head: "made", cell: (one) => <Moment at={one.made_at} /> },
          ]}
        />
      )}
      <More pages={pages} title="Earlier ones" />
    </>
  );
}

function Add({ close, done }: { close: () => void; done: (made: Schema["NewSubscription"]) => void }) {
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [by, setBy] = useState("webhook");
  const [to, setTo] = useState("");
  const [events, setEvents] = useState("version.released operation.failed");
  const [lines, setLines] = useState("");
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const act = async () => {
    const body = {
      url: by === "webhook" ? to : null,
      mail_to: by === "mail" ? words(to) : null,
      events: words(events),
      lines: words(lines),
    };
    const params = { path: { name }, header: { "if-none-match": "*" } };
    done(await answer(http.PUT("/api/v1/subscriptions/{name}", { params, body })));
    await cache.invalidateQueries();
  };
  return (
    <Confirm title="Notify somebody of events" verb="Notify them" act={act} close={close}>
      <NameField label="Name" value={name} onChange={(e) => setName(e.target.value)} required autoFocus />
      <Choice
        label="By"
        value={by}
        onChange={(e) => setBy(e.target.value)}
        options={[
          ["webhook", "webhook"],
          ["mail", "mail"],
        ]}
      />
      <TextField
        label={by === "webhook" ? "Address of the webhook" : "Mail addresses"}
        value={to}
        onChange={(e) => setTo(e.target.value)}
        required
        placeholder={by === "webhook" ? "https://hooks.tide.example/images" : "watch@tide.example"}
        hint="The operator of the service says where messages may go."
      />
      <TextField
        label="Events"
        value={events}
        onChange={(e) => setEvents(e.target.value)}
        hint="Actions as the ledger names them: version.released, version.*, or * for all. With none: what build sheets name it for."
      />
      <TextField
        label="Only about"
        value={lines}
        onChange={(e) => setLines(e.target.value)}
        placeholder="any line or sheet"
      />
    </Confirm>
  );
}
