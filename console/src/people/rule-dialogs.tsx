import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, fresh, http, since, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Confirm } from "~/parts/dialog";
import { RegionChoice } from "~/parts/region-choice";
import { Check, Choice, NameField, TextArea, TextField } from "~/parts/form";

type Rule = Schema["LaunchRule"];

/** The common rules; the command line takes all of them. */
export function RuleDialog({ close }: { close: () => void }) {
  const cache = useQueryClient();
  const lines = useQuery(ask.lines()).data?.items ?? [];
  const [name, setName] = useState("");
  const [applies, setApplies] = useState("*");
  const [effect, setEffect] = useState<"refuse" | "warn">("refuse");
  const [given, setGiven] = useState({
    released_only: false,
    signed: false,
    residue_clean: false,
    no_public_address: false,
  });
  const [days, setDays] = useState("");
  const [only, setOnly] = useState<string[]>([]);
  const act = async () => {
    const body: Rule = {
      name,
      effect,
      applies_to: applies,
      ...given,
      no_older_than_days: days ? Number(days) : null,
      regions: only.length ? only : null,
      exceptions: [],
    };
    await answer(http.PUT("/api/v1/rules/{name}", { params: { path: { name }, header: fresh }, body }));
    await cache.invalidateQueries();
  };
  const demand = (key: keyof typeof given, label: string) => (
    <Check label={label} checked={given[key]} onChange={(e) => setGiven({ ...given, [key]: e.target.checked })} />
  );
  return (
    <Confirm
      title="Set a launch rule"
      about="Every condition that is given must hold."
      verb="Set it"
      act={act}
      close={close}
    >
      <NameField label="Name" value={name} onChange={(e) => setName(e.target.value)} required autoFocus />
      <Choice
        label="Judges"
        value={applies}
        onChange={(e) => setApplies(e.target.value)}
        options={[
          ["*", "every launch"],
          ...lines.map((one): [string, string] => [one.name, `launches of ${one.name}`]),
        ]}
      />
      {demand("released_only", "Only released versions")}
      {demand("signed", "Only with a signature that holds")}
      {demand("residue_clean", "Only without an open finding")}
      {demand("no_public_address", "Only without a public address")}
      <TextField
        label="Released within so many days"
        type="number"
        min={1}
        value={days}
        onChange={(e) => setDays(e.target.value)}
        hint="Left out: whenever."
      />
      <RegionChoice chosen={only} choose={setOnly} />
      <Choice
        label="Otherwise it"
        value={effect}
        onChange={(e) => setEffect(e.target.value as typeof effect)}
        options={[
          ["refuse", "refuses the launch"],
          ["warn", "warns"],
        ]}
      />
    </Confirm>
  );
}

/** Lets something pass although a rule refuses it: for a reason that is recorded, and until a day. */
export function ExceptionDialog({ set, close }: { set: Schema["SetRule"]; close: () => void }) {
  const cache = useQueryClient();
  const { account } = useSession();
  const judged = set.rule.applies_to ?? "*";
  const [name, setName] = useState("");
  const [subject, setSubject] = useState(judged.includes("/") ? judged : `${account}/${judged}`);
  const [reason, setReason] = useState("");
  const [until, setUntil] = useState(new Date(Date.now() + 30 * 86_400_000).toISOString().slice(0, 10));
  const act = async () => {
    const made = { name, subject, account: "*", reason, until };
    const body: Rule = { ...set.rule, exceptions: [...(set.rule.exceptions ?? []), made] };
    await answer(
      http.PUT("/api/v1/rules/{name}", {
        params: { path: { name: set.rule.name }, header: since(set.revision) },
        body,
      }),
    );
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Make an exception of ${set.rule.name}`}
      about="The rule then admits it; the exception is shown with each verdict."
      verb="Make it"
      act={act}
      close={close}
    >
      <TextField
        label="Name of the exception"
        value={name}
        onChange={(e) => setName(e.target.value)}
        required
        autoFocus
        placeholder="storm-week"
      />
      <TextField
        label="For"
        value={subject}
        onChange={(e) => setSubject(e.target.value)}
        required
        hint="account/line or account/line@number; * stands for any characters."
      />
      <TextArea label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} required minLength={3} />
      <TextField label="Until" type="date" value={until} onChange={(e) => setUntil(e.target.value)} required />
    </Confirm>
  );
}
