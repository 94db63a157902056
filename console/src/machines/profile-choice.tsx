import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Check, Choice } from "~/parts/form";
import { plural } from "~/parts/text";

type Profile = Schema["Profile"];

/** A built-in profile and the steps of it that are left out; `given` is what a capture takes. */
export function useProfile() {
  const profiles = useQuery(ask.profiles()).data ?? [];
  const [name, setName] = useState("linux");
  const [without, setWithout] = useState<string[]>([]);
  const chosen = profiles.find((one) => one.name === name);
  const given: string | { name: string; extends: string; without: string[]; steps: never[] } = without.length
    ? { name: `${name}-less`, extends: name, without, steps: [] }
    : name;
  const choose = (wanted: string) => {
    setName(wanted);
    setWithout([]);
  };
  const leave = (id: string, out: boolean) =>
    setWithout(out ? [...without, id] : without.filter((other) => other !== id));
  return { profiles, name, chosen, without, given, choose, leave };
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
        options={profiles.map((one) => one.name)}
        hint={chosen?.about}
      />
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
