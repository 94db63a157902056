import { useQuery } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { Link, useNavigate } from "react-router";
import { answer, http, onceKey, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Button, ProblemShown } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { Choice, TextArea, TextField } from "~/parts/form";
import { to } from "~/parts/text";
import { ProfileChoice, useProfile } from "./profile-choice";
import { DisksChoice } from "./disks-choice";
import { SourceChoice, useSource } from "./source-choice";

type Bump = "patch" | "minor" | "major";

/** Into which line, under which number, how; first the plan, path by path, if wanted. */
export function CaptureForm({
  inspection,
  line: wanted,
  disks,
  take,
}: {
  inspection: Schema["Inspection"];
  line: string;
  disks: string[];
  take: (disks: string[]) => void;
}) {
  const { machine, capturable } = inspection;
  const { may, who, account } = useSession();
  const go = useNavigate();
  const lines = useQuery(ask.lines()).data?.items ?? [];
  const [chosen, setChosen] = useState(wanted);
  const line = chosen || (lines[0]?.name ?? "");
  const fresh = (lines.find((one) => one.name === line)?.versions ?? 0) === 0;
  const [number, setNumber] = useState("");
  const [bump, setBump] = useState<Bump>("minor");
  const [mode, setMode] = useState<Schema["CaptureRequest"]["mode"]>(
    inspection.mode as Schema["CaptureRequest"]["mode"],
  );
  const [notes, setNotes] = useState("");
  const [problem, setProblem] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const [sure, setSure] = useState(false);
  const profile = useProfile();
  const source = useSource(mode === "stopped" && machine.state === "running");
  if (!may("operate"))
    return (
      <p className="text-small text-ink-2">
        {who.user} may look at {account}, not capture. Ask a steward of {account}.
      </p>
    );
  const send = async (call: () => Promise<Schema["Operation"]>) => {
    setBusy(true);
    setProblem(null);
    try {
      const operation = await call();
      void go(to.operation(operation.id));
    } catch (failed) {
      setProblem(failed);
      setBusy(false);
    }
  };
  const named = number || (fresh ? "1.0.0" : "");
  const asked = {
    machine: machine.id,
    region: machine.region,
    line,
    number: named || null,
    bump: named ? null : bump,
    mode,
    disks: ["boot", ...disks],
    profile: profile.given,
    tags: {},
    power_off: source.shutsDown,
    afterwards: source.afterwards,
    prepared: false,
  };
  const begin = () => {
    const body = { ...asked, notes, at: source.at ? new Date(source.at).toISOString() : null };
    return answer(http.POST("/api/v1/captures", { body, params: { header: onceKey() } }));
  };
  const capture = (event: FormEvent) => {
    event.preventDefault();
    if (source.afterwards === "deleted") setSure(true);
    else void send(begin);
  };
  const plan = () =>
    void send(() =>
      answer(
        http.POST("/api/v1/capture-plans", {
          body: { ...asked, line: line || null },
          params: { header: onceKey() },
        }),
      ),
    );
  return (
    <form onSubmit={capture} aria-label="Capture">
      <h2 className="text-label text-ink-2 mb-2 font-semibold">Capture it</h2>
      {lines.length === 0 && (
        <p className="mb-2">
          A version belongs to a line: <Link to="/lines">make one</Link> first.
        </p>
      )}
      <Choice
        label="Into the line"
        value={line}
        onChange={(e) => setChosen(e.target.value)}
        options={lines.map((one) => one.name)}
      />
      <TextField
        label="Number"
        value={number}
        onChange={(e) => setNumber(e.target.value)}
        placeholder={fresh ? "1.0.0" : `next ${bump}`}
        hint="Semantic Versioning, such as 1.4.0."
      />
      {!number && !fresh && (
        <Choice
          label="Or the next"
          value={bump}
          onChange={(e) => setBump(e.target.value as Bump)}
          options={["patch", "minor", "major"]}
        />
      )}
      <Choice
        label="How"
        value={mode}
        onChange={(e) => setMode(e.target.value as typeof mode)}
        options={[
          ["live", "live: it keeps running"],
          ["stopped", "stopped: it is off"],
          ["as-is", "as it is: its identity stays in the version"],
        ]}
      />
      <DisksChoice machine={machine} disks={disks} take={take} />
      {mode !== "as-is" && <ProfileChoice profile={profile} />}
      <SourceChoice source={source} name={machine.name} />
      <TextArea label="Notes" value={notes} onChange={(e) => setNotes(e.target.value)} />
      {problem !== null && <ProblemShown problem={problem} />}
      {!capturable && <p className="text-small text-heed mb-2">Not possible before the obstacles are gone.</p>}
      <div className="flex flex-wrap gap-3">
        <Button
          type="submit"
          kind="main"
          disabled={busy || !line || !profile.ready || !(capturable || source.shutsDown)}
        >
          {source.at ? "Capture it then" : "Capture it"}
        </Button>
        <Button onClick={plan} disabled={busy || !profile.ready}>
          Plan, path by path
        </Button>
      </div>
      <p className="text-label text-ink-3 mt-2">
        A plan names every obstacle, or shows what would be removed or changed on the copy. It keeps nothing.
      </p>
      {sure && (
        <Confirm
          title={`Capture ${machine.name}, then delete it`}
          about="The machine is deleted at its site, with all of its disks, once the version is sealed. Nothing brings it back."
          typed={machine.name}
          verb="Capture and delete it"
          loses
          act={async () => void go(to.operation((await begin()).id))}
          close={() => setSure(false)}
        />
      )}
    </form>
  );
}
