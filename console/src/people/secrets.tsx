import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { useSession } from "~/app/session";
import { Button, Empty, Loading, Moment, ProblemShown } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { NameField, TextField } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { Table } from "~/parts/table";
import { to } from "~/parts/text";

type Secret = Schema["SecretFacts"];

/** Values for build runs that nobody can read back. */
export function Secrets() {
  const { may, account } = useSession();
  const pages = usePages(["secrets"], (cursor) =>
    answer(http.GET("/api/v1/secrets", { params: { query: { limit: 100, cursor } } })),
  );
  const [asked, setAsked] = useState<"new" | { change: Secret } | { drop: Secret } | null>(null);
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  const close = () => setAsked(null);
  return (
    <>
      {may("manage") ? (
        <Button className="mb-3" onClick={() => setAsked("new")}>
          Keep a secret
        </Button>
      ) : (
        <p className="text-small text-ink-2">A steward of {account} can set and remove secrets.</p>
      )}
      {pages.rows.length === 0 ? (
        <Empty>There is no secret. Steps of build sheets name those that they need.</Empty>
      ) : (
        <Table
          label="Secrets"
          rows={pages.rows}
          id={(one) => one.name}
          columns={[
            { head: "name", cell: (one) => <span className="font-semibold whitespace-nowrap">{one.name}</span> },
            { head: "about", wide: true, cell: (one) => one.about },
            {
              head: "set",
              cell: (one) => (
                <>
                  <Moment at={one.set_at} /> by {one.set_by}
                </>
              ),
            },
            {
              head: "given last to",
              cell: (one) =>
                one.used_by ? (
                  <>
                    <Link to={to.operation(one.used_by)}>a run</Link>
                    {one.used_at && (
                      <span className="text-ink-3 block">
                        <Moment at={one.used_at} />
                      </span>
                    )}
                  </>
                ) : (
                  <span className="text-ink-3">nobody</span>
                ),
            },
            {
              head: "",
              cell: (one) =>
                may("manage") && (
                  <span className="flex gap-3">
                    <Button kind="quiet" aria-label={`Set anew: ${one.name}`} onClick={() => setAsked({ change: one })}>
                      Set anew
                    </Button>
                    <Button kind="quiet" aria-label={`Remove ${one.name}`} onClick={() => setAsked({ drop: one })}>
                      Remove
                    </Button>
                  </span>
                ),
            },
          ]}
        />
      )}
      <More pages={pages} />
      {asked === "new" && <Keep close={close} />}
      {asked !== "new" && asked && "change" in asked && <Keep secret={asked.change} close={close} />}
      {asked !== "new" && asked && "drop" in asked && <Drop secret={asked.drop} close={close} />}
    </>
  );
}

function Keep({ secret, close }: { secret?: Secret; close: () => void }) {
  const cache = useQueryClient();
  const [name, setName] = useState(secret?.name ?? "");
  const [value, setValue] = useState("");
  const [about, setAbout] = useState(secret?.about ?? "");
  const act = async () => {
    await answer(http.PUT("/api/v1/secrets/{name}", { params: { path: { name } }, body: { value, about } }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={secret ? `Set ${secret.name} anew` : "Keep a secret"}
      about="It is kept encrypted, given to the runs that name it, and shown to nobody again."
      verb="Keep it"
      act={act}
      close={close}
    >
      {!secret && <NameField label="Name" value={name} onChange={(e) => setName(e.target.value)} required autoFocus />}
      <TextField
        label="Value"
        type="password"
        value={value}
        onChange={(e) => setValue(e.target.value)}
        required
        minLength={8}
        autoComplete="off"
        hint="8 characters at least: a shorter one would be found everywhere."
      />
      <TextField label="About" value={about} onChange={(e) => setAbout(e.target.value)} maxLength={500} />
    </Confirm>
  );
}

function Drop({ secret, close }: { secret: Secret; close: () => void }) {
  const cache = useQueryClient();
  const act = async () => {
    await answer(http.DELETE("/api/v1/secrets/{name}", { params: { path: { name: secret.name } } }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Remove ${secret.name}`}
      about="Runs that name it are refused from then on."
      verb="Remove it"
      loses
      act={act}
      close={close}
    />
  );
}
