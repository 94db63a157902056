import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { ProblemShown } from "~/parts/basics";
import { Check, Choice, TextField } from "~/parts/form";
import { plural } from "~/parts/text";

type Profile = Schema["Profile"];
const FILE = "(file)";

/** A built-in profile less the steps that are left out, or one from a file; `given` is what a capture takes. */
export function useProfile() {
  const profiles = useQuery(ask.profiles()).data ?? [];
  const [name, setName] = useState("linux");
  const [without, setWithout] = useState<string[]>([]);
  const [own, setOwn] = useState<Profile | null>(null);
  const [problem, setProblem] = useState<unknown>(null);
  const fromFile = name === FILE;
  const chosen = fromFile ? own : profiles.find((one) => one.name === name);
  const given: string | { [key: string]: unknown } =
    own && fromFile
      ? { ...own, steps: own.steps?.filter((step) => !without.includes(step.id)) }
      : without.length
        ? { name: `${name}-less`, extends: name, without, steps: [] }
        : name;
  const choose = (wanted: string) => {
    setName(wanted);
    setWithout([]);
  };
  const read = async (file: File | undefined) => {
    setOwn(null);
    setWithout([]);
    setProblem(null);
    if (!file) return;
    try {
      setOwn(await answer(http.POST("/api/v1/profiles/checks", { body: { profile: await file.text() } })));
    } catch (failed) {
      setProblem(failed);
    }
  };
  const leave = (id: string, out: boolean) =>
    setWithout(out ? [...without, id] : without.filter((other) => other !== id));
  /** Whether there is a profile to capture with: a file may not have been chosen yet, or not be valid. */
  const ready = !fromFile || own !== null;
  return { profiles, name, fromFile, chosen, without, given, problem, ready, choose, read, leave };
}

/** Which steps make the copy general: a profile, less the steps that somebody leaves out. */
export function ProfileChoice({ profile }: { profile: ReturnType<typeof useProfile> }) {
  const { profiles, name, chosen, without } = profile;
  return (
    <>
      <Choice
        label="Profile"
        value={name}
        onChange={(e) => profile.choose(e.target.value)}
        options={[...profiles.map((one) => one.name), [FILE, "one from a file"]]}
        hint={chosen?.about}
      />
      {profile.fromFile && (
        <TextField
          label="File of the profile"
          type="file"
          accept=".yaml,.yml"
          onChange={(e) => void profile.read(e.target.files?.[0])}
          hint={chosen ? `The profile ${chosen.name}.` : "YAML, as docs/profiles.md describes it."}
        />
      )}
      {profile.problem !== null && <ProblemShown problem={profile.problem} />}
      {chosen && (
        <details className="mb-3">
          <summary className="text-small text-link cursor-pointer">
            {plural(chosen.steps?.length ?? 0, "step")}
            {without.length > 0 && `, ${without.length} left out`}
          </summary>
          <ul className="border-hair mt-1 max-h-64 overflow-y-auto border-t">
            {(chosen.steps ?? []).map((step) => (
              <Step key={step.id} step={step} out={without.includes(step.id)} leave={profile.leave} />
            ))}
          </ul>
        </details>
      )}
    </>
  );
}

type StepGiven = {
  step: NonNullable<Profile["steps"]>[number];
  out: boolean;
  leave: (id: string, out: boolean) => void;
};

function Step({ step, out, leave }: StepGiven) {
  return (
    <li className="border-hair border-b py-1">
      <Check
        label={
          <>
            {step.id}
            {step.why && <span className="text-small text-ink-2 block">{step.why}</span>}
          </>
        }
        checked={!out}
        onChange={(e) => leave(step.id, !e.target.checked)}
      />
    </li>
  );
}
