import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, onceKey, type Schema } from "~/api/client";
import { Confirm, PlanShown } from "~/parts/dialog";
import { Choice, TextArea, TextField } from "~/parts/form";
import { to } from "~/parts/text";

type Kind = "put-file" | "set-line" | "remove" | "authorize-key";

const kinds: [Kind, string][] = [
  ["put-file", "write a file"],
  ["set-line", "set a line in a file"],
  ["remove", "remove a path"],
  ["authorize-key", "let an SSH key in"],
];

/** One common step on a copy of the disk; the command line takes a file of many. */
export function EditDialog({ overview, close }: { overview: Schema["VersionOverview"]; close: () => void }) {
  const { reference } = overview.version;
  const go = useNavigate();
  const [kind, setKind] = useState<Kind>("put-file");
  const [given, setGiven] = useState<Record<string, string>>({ path: "/etc/motd", bump: "patch" });
  const set = (name: string) => (event: { target: { value: string } }) =>
    setGiven({ ...given, [name]: event.target.value });
  const value = (name: string) => given[name] ?? "";
  const step = {
    "put-file": { path: value("path"), content: value("content") },
    "set-line": { paths: [value("path")], match: value("match"), line: value("line") },
    remove: { paths: [value("path")] },
    "authorize-key": { user: value("user"), key: value("key") },
  }[kind];
  const body = {
    reference,
    bump: value("bump") as "patch" | "minor" | "major",
    number: null,
    notes: value("notes"),
    region: null,
    even_unchanged: false,
    steps: [{ id: kind, do: kind, ...step }],
  };
  const settled = useSettled(body);
  const plan = useQuery({
    queryKey: ["edit-plan", settled],
    queryFn: () => answer(http.POST("/api/v1/edit-plans", { body: settled })),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const act = async () => {
    const operation = await answer(http.POST("/api/v1/edits", { body, params: { header: onceKey() } }));
    void go(to.operation(operation.id));
  };
  return (
    <Confirm
      title={`Make a version from ${reference}`}
      about="The step is applied to a copy of its disk, without a boot."
      verb="Make it"
      unable={Boolean(plan.data?.blockers.length) && !plan.error}
      act={act}
      close={close}
    >
      <Choice label="Step" value={kind} onChange={(e) => setKind(e.target.value as Kind)} options={kinds} />
      {kind !== "authorize-key" && <TextField label="Path" value={value("path")} onChange={set("path")} required />}
      {kind === "put-file" && <TextArea label="Content" value={value("content")} onChange={set("content")} />}
      {kind === "set-line" && (
        <TextField
          label="Lines that match"
          value={value("match")}
          onChange={set("match")}
          required
          hint="A regular expression, such as ^interval ="
        />
      )}
      {kind === "set-line" && <TextField label="Become" value={value("line")} onChange={set("line")} required />}
      {kind === "authorize-key" && <TextField label="User" value={value("user")} onChange={set("user")} required />}
      {kind === "authorize-key" && <TextArea label="Public key" value={value("key")} onChange={set("key")} required />}
      <Choice
        label="Number"
        value={value("bump")}
        onChange={set("bump")}
        options={[
          ["patch", "next patch"],
          ["minor", "next minor"],
          ["major", "next major"],
        ]}
      />
      <TextField label="Notes" value={value("notes")} onChange={set("notes")} />
      {plan.data && !plan.error && <PlanShown plan={plan.data} />}
      {plan.data?.changes.map((change) => (
        <p key={change.path} className="text-small mb-1">
          {change.action} <code className="font-mono">{change.path}</code> {change.note}
        </p>
      ))}
    </Confirm>
  );
}

/** A value once nobody has changed it for a moment: the plan reads the version's disk. */
function useSettled<Value>(value: Value): Value {
  const [settled, setSettled] = useState(value);
  const text = JSON.stringify(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(JSON.parse(text) as Value), 500);
    return () => clearTimeout(timer);
  }, [text]);
  return settled;
}
