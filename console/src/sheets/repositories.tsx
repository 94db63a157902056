import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { useSession } from "~/app/session";
import { Button, Empty, Heading, Moment, ProblemShown, Short } from "~/parts/basics";
import { Confirm, ShownOnce } from "~/parts/dialog";
import { NameField, TextArea, TextField } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { Table } from "~/parts/table";
import { plural, to } from "~/parts/text";

type Repository = Schema["Repository"];
type Made = Schema["NewRepository"];

/** The git repositories that sheets come from: what was read of each, and what is wrong. */
export function Repositories() {
  const { may } = useSession();
  const cache = useQueryClient();
  const pages = usePages(["repositories"], (cursor) =>
    answer(http.GET("/api/v1/repositories", { params: { query: { limit: 100, cursor } } })),
  );
  const [asked, setAsked] = useState<"add" | { forget: Repository } | { key: Repository } | null>(null);
  const [made, setMade] = useState<Made | null>(null);
  const [problem, setProblem] = useState<unknown>(null);
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return null;
  const read = (name: string) => {
    setProblem(null);
    answer(http.POST("/api/v1/repositories/{name}/readings", { params: { path: { name } } }))
      .then(() => cache.invalidateQueries())
      .catch(setProblem);
  };
  return (
    <>
      <Heading>Repositories</Heading>
      {problem !== null && <ProblemShown problem={problem} />}
      {pages.rows.length === 0 ? (
        <Empty>No git repository is connected: sheets are saved by hand.</Empty>
      ) : (
        <Table
          label="Repositories"
          rows={pages.rows}
          id={(one) => one.name}
          columns={[
            { head: "name", cell: (one) => <span className="font-semibold whitespace-nowrap">{one.name}</span> },
            { head: "where", wide: true, cell: (one) => <Where one={one} /> },
            { head: "newest commit", wide: true, cell: (one) => <Newest one={one} /> },
            { head: "sheets", cell: (one) => <Sheets one={one} /> },
            {
              head: "",
              cell: (one) => (
                <span className="flex gap-3">
                  {may("operate") && (
                    <Button kind="quiet" aria-label={`Read ${one.name}`} onClick={() => read(one.name)}>
                      Read
                    </Button>
                  )}
                  {may("manage") && (
                    <Button kind="quiet" aria-label={`New key of ${one.name}`} onClick={() => setAsked({ key: one })}>
                      New key
                    </Button>
                  )}
                  {may("manage") && (
                    <Button kind="quiet" aria-label={`Forget ${one.name}`} onClick={() => setAsked({ forget: one })}>
                      Forget
                    </Button>
                  )}
                </span>
              ),
            },
          ]}
        />
      )}
      <More pages={pages} />
      {may("manage") && (
        <Button className="mt-3" onClick={() => setAsked("add")}>
          Connect a repository
        </Button>
      )}
      {asked === "add" && <Add close={() => setAsked(null)} done={setMade} />}
      {asked && asked !== "add" && "forget" in asked && <Forget one={asked.forget} close={() => setAsked(null)} />}
      {asked && asked !== "add" && "key" in asked && (
        <NewKey one={asked.key} close={() => setAsked(null)} done={setMade} />
      )}
      {made?.key && (
        <ShownOnce
          title={`The key of ${made.name}`}
          about={`Who pushes may say so to /api/v1/pushes/${made.id}, signed with this key. It is shown once.`}
          text={made.key}
          close={() => setMade(null)}
        />
      )}
    </>
  );
}

function Where({ one }: { one: Repository }) {
  return (
    <>
      <span className="break-all">{one.address}</span>
      <span className="text-small text-ink-2 block">
        branch {one.branch}
        {one.folder && `, folder ${one.folder}`}
        {one.signers.length > 0 && ", signed commits alone"}
      </span>
    </>
  );
}

function Newest({ one }: { one: Repository }) {
  return (
    <>
      {one.problem && <span className="text-heed block font-semibold">cannot be read: {one.problem}</span>}
      {one.commit ? (
        <>
          {one.subject}
          <span className="text-small text-ink-2 block">
            <Short text={one.commit} keep={12} /> by {one.author}
            {one.signer && `, signed by ${one.signer}`}
            {one.read_at && (
              <>
                , read <Moment at={one.read_at} />
              </>
            )}
          </span>
        </>
      ) : (
        !one.problem && <span className="text-ink-2">not read yet</span>
      )}
    </>
  );
}

function Sheets({ one }: { one: Repository }) {
  return (
    <>
      {one.sheets.map((sheet) => (
        <span key={sheet.name} className="block whitespace-nowrap">
          <Link to={to.sheet(sheet.name)}>{sheet.name}</Link>
          {sheet.withdrawn && <span className="text-ink-2"> (gone there)</span>}
        </span>
      ))}
      {one.wrong.map((wrong) => (
        <span key={wrong.path} className="text-small text-heed block">
          {wrong.path}: {wrong.why}
        </span>
      ))}
      {one.sheets.length + one.wrong.length === 0 && <span className="text-ink-2">none</span>}
    </>
  );
}

function NewKey({ one, close, done }: { one: Repository; close: () => void; done: (made: Made) => void }) {
  const act = async () => {
    done(await answer(http.POST("/api/v1/repositories/{name}/push-keys", { params: { path: { name: one.name } } })));
  };
  return (
    <Confirm
      title={`A new key of ${one.name}`}
      about="Pushes that are signed with the key before are refused from then on."
      verb="Have a new key"
      act={act}
      close={close}
    />
  );
}

function Forget({ one, close }: { one: Repository; close: () => void }) {
  const cache = useQueryClient();
  const act = async () => {
    await answer(http.DELETE("/api/v1/repositories/{name}", { params: { path: { name: one.name } } }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Forget ${one.name}`}
      about={`It is looked at no more. ${plural(one.sheets.length, "sheet")} of it ${one.sheets.length === 1 ? "stays" : "stay"}, and can be changed by hand then.`}
      verb="Forget it"
      act={act}
      close={close}
    />
  );
}

function Add({ close, done }: { close: () => void; done: (made: Schema["NewRepository"]) => void }) {
  const cache = useQueryClient();
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [branch, setBranch] = useState("main");
  const [folder, setFolder] = useState("");
  const [secret, setSecret] = useState("");
  const [signers, setSigners] = useState("");
  const act = async () => {
    const body = {
      address,
      branch,
      folder,
      secret: secret || null,
      signers: signers.split("\n").filter((line) => line.trim()),
      values: {},
      every_minutes: 5,
    };
    const params = { path: { name }, header: { "if-none-match": "*" } };
    done(await answer(http.PUT("/api/v1/repositories/{name}", { params, body })));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title="Connect a repository"
      about="The sheets of its newest commit are the account's, now and whenever its branch moves."
      verb="Connect it"
      act={act}
      close={close}
    >
      <NameField label="Name" value={name} onChange={(e) => setName(e.target.value)} required autoFocus />
      <TextField
        label="Address"
        value={address}
        onChange={(e) => setAddress(e.target.value)}
        required
        placeholder="https://git.tide.example/images"
        hint="https or ssh, on a host that the operator of the service names."
      />
      <TextField label="Branch" value={branch} onChange={(e) => setBranch(e.target.value)} required />
      <TextField
        label="Folder"
        value={folder}
        onChange={(e) => setFolder(e.target.value)}
        placeholder="the top"
        hint="The sheets are there, and below."
      />
      <TextField
        label="Secret"
        value={secret}
        onChange={(e) => setSecret(e.target.value)}
        placeholder="none"
        hint="The name of the secret that opens it: USER:PASSWORD or a token, a private key for ssh."
      />
      <TextArea
        label="Signers"
        value={signers}
        onChange={(e) => setSigners(e.target.value)}
        rows={3}
        placeholder="orla@tide.example ssh-ed25519 AAAA..."
        hint="Who must have signed its newest commit, a line each, as allowed-signers files of SSH have them."
      />
    </Confirm>
  );
}
