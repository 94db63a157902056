import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, since, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Button, Loading, Moment, ProblemShown, Whole } from "~/parts/basics";
import { Confirm, Dialog } from "~/parts/dialog";
import { Choice, TextField } from "~/parts/form";
import { Table } from "~/parts/table";

type Member = Schema["Member"];
const roles: [Schema["Role"], string][] = [
  ["viewer", "viewer: looks"],
  ["operator", "operator: captures, launches, releases"],
  ["steward", "steward: also shares, rules, retires, manages people"],
];

export function Members() {
  const { data, error } = useQuery(ask.members());
  const { may, account } = useSession();
  const cache = useQueryClient();
  const [asked, setAsked] = useState<"invite" | Member | null>(null);
  const [again, setAgain] = useState<Member | null>(null);
  const [invited, setInvited] = useState<Member | null>(null);
  const [problem, setProblem] = useState<unknown>(null);
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const change = async ({ user, revision = "" }: Member, role: Schema["Role"]) => {
    try {
      await answer(
        http.PUT("/api/v1/members/{user}", { params: { path: { user }, header: since(revision) }, body: { role } }),
      );
      await cache.invalidateQueries();
      setProblem(null);
    } catch (failed) {
      setProblem(failed);
    }
  };
  return (
    <>
      {may("manage") ? (
        <Button onClick={() => setAsked("invite")}>Invite somebody</Button>
      ) : (
        <p className="text-small text-ink-2">A steward of {account} can invite and remove people.</p>
      )}
      {problem !== null && <ProblemShown problem={problem} />}
      <Table
        label="Members"
        rows={data}
        id={(member) => member.user}
        columns={[
          { head: "name", cell: (member) => <span className="font-semibold">{member.user}</span> },
          { head: "kind", cell: (member) => member.kind },
          {
            head: "role",
            cell: (member) =>
              may("manage") ? (
                <select
                  aria-label={`Role of ${member.user}`}
                  value={member.role}
                  onChange={(e) => void change(member, e.target.value as Schema["Role"])}
                  className="rounded-edge border-rule bg-sheet border px-1 py-0.5"
                >
                  {roles.map(([role]) => (
                    <option key={role}>{role}</option>
                  ))}
                </select>
              ) : (
                member.role
              ),
          },
          {
            head: "since",
            cell: (member) => (member.accepted ? <Moment at={member.since} /> : "asked, has not accepted yet"),
          },
          {
            head: "",
            cell: (member) =>
              may("manage") && (
                <span className="flex gap-4">
                  {member.kind === "person" && (
                    <Button
                      kind="quiet"
                      onClick={() => setAgain(member)}
                      aria-label={`New invitation for ${member.user}`}
                    >
                      New invitation
                    </Button>
                  )}
                  <Button kind="quiet" onClick={() => setAsked(member)} aria-label={`Remove ${member.user}`}>
                    Remove
                  </Button>
                </span>
              ),
          },
        ]}
      />
      {asked === "invite" && <Invite close={() => setAsked(null)} done={setInvited} />}
      {asked && asked !== "invite" && <Remove member={asked} close={() => setAsked(null)} />}
      {again && <InviteAgain member={again} close={() => setAgain(null)} done={setInvited} />}
      {invited && <Invited member={invited} close={() => setInvited(null)} />}
    </>
  );
}

function Invite({ close, done }: { close: () => void; done: (member: Member) => void }) {
  const { account } = useSession();
  const cache = useQueryClient();
  const [user, setUser] = useState("");
  const [role, setRole] = useState<Schema["Role"]>("viewer");
  const act = async () => {
    const made = await answer(http.POST("/api/v1/members", { body: { user, role, robot: false } }));
    await cache.invalidateQueries();
    done(made);
  };
  return (
    <Confirm
      title={`Invite somebody to ${account}`}
      about="Who is new gets a code, shown once, to join with. Who signs in here already is asked."
      verb="Invite"
      act={act}
      close={close}
    >
      <TextField label="Name" value={user} onChange={(e) => setUser(e.target.value)} required autoFocus />
      <Choice label="Role" value={role} onChange={(e) => setRole(e.target.value as Schema["Role"])} options={roles} />
    </Confirm>
  );
}

function InviteAgain({ member, close, done }: { member: Member; close: () => void; done: (made: Member) => void }) {
  const path = { user: member.user };
  return (
    <Confirm
      title={`A new invitation for ${member.user}`}
      about="For who has not used the first one, or has forgotten the password: with it another one is chosen. The password that counts now counts until then."
      verb="Make it"
      act={async () => done(await answer(http.POST("/api/v1/members/{user}/invitation", { params: { path } })))}
      close={close}
    />
  );
}

function Remove({ member, close }: { member: Member; close: () => void }) {
  const { account } = useSession();
  const cache = useQueryClient();
  const act = async () => {
    await answer(http.DELETE("/api/v1/members/{user}", { params: { path: { user: member.user } } }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Remove ${member.user} from ${account}`}
      about="Its tokens for this account stop working at once. What it made stays."
      verb="Remove"
      loses
      act={act}
      close={close}
    />
  );
}

function Invited({ member, close }: { member: Member; close: () => void }) {
  const address = member.invitation ? `${location.origin}/join?code=${member.invitation}` : "";
  return (
    <Dialog open close={close} title={member.accepted ? `${member.user} is invited` : `${member.user} is asked`}>
      {address ? (
        <>
          <p className="mb-2">Give {member.user} this address. It is shown once, and works once.</p>
          <Whole text={address} />
        </>
      ) : (
        <p>
          {member.user} signs in here already, and is asked at the top of the page. The membership counts once{" "}
          {member.user} accepts it.
        </p>
      )}
      <div className="mt-4">
        <Button onClick={close}>Close</Button>
      </div>
    </Dialog>
  );
}
