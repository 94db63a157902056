import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import type { paths } from "~/api/schema";
import { useSession } from "~/app/session";
import { Button, Empty, Loading, Moment, ProblemShown } from "~/parts/basics";
import { Confirm, ShownOnce } from "~/parts/dialog";
import { Check, Choice, TextField } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { useOrder } from "~/parts/sorted";
import { Table } from "~/parts/table";
import { plural } from "~/parts/text";

type Sort = NonNullable<paths["/api/v1/tokens"]["get"]["parameters"]["query"]>["sort"];

export function Tokens() {
  const [valid, setValid] = useState(true);
  const order = useOrder<NonNullable<Sort>>(["made", "name", "user", "used", "expires"], "-made");
  const { sort } = order;
  const pages = usePages(["tokens", valid, sort], (cursor) =>
    answer(http.GET("/api/v1/tokens", { params: { query: { valid, sort, limit: 100, cursor, total: !cursor } } })),
  );
  const cache = useQueryClient();
  const [asked, setAsked] = useState<"make" | Schema["Token"] | null>(null);
  const [made, setMade] = useState<Schema["NewToken"] | null>(null);
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  const revoke = async (token: string) => {
    await answer(http.DELETE("/api/v1/tokens/{token}", { params: { path: { token } } }));
    await cache.invalidateQueries();
  };
  return (
    <>
      <Button onClick={() => setAsked("make")}>Make a token</Button>
      <div className="mt-3">
        <Check label="Revoked and expired ones too" checked={!valid} onChange={(e) => setValid(!e.target.checked)} />
      </div>
      <p className="text-small text-ink-2">
        {plural(pages.total ?? pages.rows.length, "token")}
        {valid && " that can be used"}
      </p>
      {pages.rows.length ? (
        <Table
          label="Tokens"
          rows={pages.rows}
          id={(token) => token.id}
          order={order}
          columns={[
            { head: "token", sort: "name", cell: (token) => <span className="font-semibold">{token.name}</span> },
            {
              head: "of",
              sort: "user",
              cell: (token) => (
                <>
                  {token.user} <span className="text-ink-3">{token.kind}</span>
                </>
              ),
            },
            { head: "may", cell: covers },
            {
              head: "last used",
              sort: "used",
              cell: (token) => (token.last_used_at ? <Moment at={token.last_used_at} /> : "never"),
            },
            {
              head: "expires",
              sort: "expires",
              cell: (token) => (token.revoked_at ? "revoked" : <Moment at={token.expires_at} exact />),
            },
            {
              head: "",
              cell: (token) =>
                !token.revoked_at && (
                  <Button kind="quiet" onClick={() => setAsked(token)} aria-label={`Revoke ${token.name}`}>
                    Revoke
                  </Button>
                ),
            },
          ]}
        />
      ) : (
        <Empty>There is no token. Programs and the command line sign in with one.</Empty>
      )}
      <More pages={pages} />
      {asked === "make" && <Make close={() => setAsked(null)} done={setMade} />}
      {asked && asked !== "make" && (
        <Confirm
          title={`Revoke ${asked.name}`}
          about="It stops working at once."
          verb="Revoke it"
          loses
          act={() => revoke(asked.id)}
          close={() => setAsked(null)}
        />
      )}
      {made && (
        <ShownOnce
          title={`The token ${made.name}`}
          about="It is shown once. Keep it where secrets are kept."
          text={made.token}
          close={() => setMade(null)}
        />
      )}
    </>
  );
}

const covers = (token: Schema["Token"]) =>
  `${token.verbs?.join(", ") ?? "all that its owner may"}${token.sheets ? ` (${token.sheets.join(", ")})` : ""}`;

function Make({ close, done }: { close: () => void; done: (token: Schema["NewToken"]) => void }) {
  const { may, account } = useSession();
  const cache = useQueryClient();
  const members = useQuery(ask.members()).data ?? [];
  const robots = members.filter((one) => one.kind === "robot");
  const [name, setName] = useState("");
  const [robot, setRobot] = useState("");
  const [days, setDays] = useState(90);
  const [verbs, setVerbs] = useState("all");
  const [sheets, setSheets] = useState("");
  const act = async () => {
    const body = {
      name,
      robot: robot || null,
      days,
      accounts: [account],
      verbs: verbs === "all" ? null : (verbs.split(" ") as Schema["Verb"][]),
      sheets: verbs === "read run" && sheets.trim() ? sheets.split(/[\s,]+/).filter(Boolean) : null,
    };
    const token = await answer(http.POST("/api/v1/tokens", { body }));
    await cache.invalidateQueries();
    done(token);
  };
  return (
    <Confirm title="Make a token" verb="Make it" act={act} close={close}>
      <TextField
        label="Name"
        value={name}
        onChange={(e) => setName(e.target.value)}
        required
        autoFocus
        placeholder="pipeline"
      />
      {may("manage") && (
        <Choice
          label="For"
          value={robot}
          onChange={(e) => setRobot(e.target.value)}
          options={[["", "yourself"], ...robots.map((one): [string, string] => [one.user, `the robot ${one.user}`])]}
        />
      )}
      <Choice
        label="It may"
        value={verbs}
        onChange={(e) => setVerbs(e.target.value)}
        options={[
          ["all", "all that its owner may"],
          ["read", "look"],
          ["read run", "look, and run saved sheets"],
          ["read operate", "look and operate"],
        ]}
      />
      {verbs === "read run" && (
        <TextField
          label="Only these sheets"
          value={sheets}
          onChange={(e) => setSheets(e.target.value)}
          placeholder="every sheet of the account"
        />
      )}
      <TextField
        label="Days until it expires"
        type="number"
        min={1}
        max={730}
        value={days}
        onChange={(e) => setDays(Number(e.target.value))}
      />
    </Confirm>
  );
}
