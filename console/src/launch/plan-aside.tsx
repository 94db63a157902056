import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { Loading, ProblemShown } from "~/parts/basics";
import { iec } from "~/parts/text";

type Plan = Schema["LaunchPlan"];

const outcomes: Record<string, string> = {
  pass: "admits it",
  excepted: "admits it by an exception",
  "not-concerned": "does not concern it",
  warn: "warns",
  refuse: "refuses it",
};

/** What a launch would do, and what every rule and allowance says of it. */
export function PlanAside({
  plan,
  problem,
  reference,
  region,
  unclear,
}: {
  plan?: Plan;
  unclear: boolean;
  problem: unknown;
  reference: string;
  region: string;
}) {
  if (problem) return <ProblemShown problem={problem} />;
  if (!reference || !region)
    return <p className="text-small text-ink-2">There is no released version to launch yet.</p>;
  if (unclear) return <p className="text-small text-ink-2">What it would do is said once every field is clear.</p>;
  if (!plan) return <Loading />;
  return (
    <section aria-label="What it would do" aria-live="polite" className="text-small">
      <h2 className="text-label text-ink-2 mb-1 font-semibold">What it would do</h2>
      {plan.blockers.length > 0 ? (
        <>
          <p className="text-heed mb-1 font-semibold">It is not possible now:</p>
          {plan.blockers.map((text) => (
            <p key={text} className="border-heed mb-2 border-l-2 pl-2">
              {text}
            </p>
          ))}
        </>
      ) : (
        <p className="mb-2">
          {plan.names.length === 1 ? "One instance starts" : `${plan.names.length} instances start`} from{" "}
          {plan.reference} in {plan.region}.{" "}
          {plan.base_disk_bytes
            ? `A launch-ready disk of ${iec(plan.base_disk_bytes)} is written to the site first.`
            : "A launch-ready disk is there already."}
        </p>
      )}
      {plan.warnings.map((text) => (
        <p key={text} className="border-rule mb-2 border-l-2 pl-2">
          {text}
        </p>
      ))}
      {(plan.disks.length > 1 || plan.disks[0]?.grown_from) && (
        <>
          <h3 className="mt-3 font-semibold">Disks of each</h3>
          <ul>
            {plan.disks.map((disk) => (
              <li key={disk.role} className="mb-1">
                {disk.role}, {iec(disk.bytes)}
                {disk.grown_from && `, grown from ${iec(disk.grown_from)}`}
                {disk.kept && ", kept afterwards"}
                {disk.holds && <span className="text-ink-2 block">{disk.holds}</span>}
              </li>
            ))}
          </ul>
        </>
      )}
      {plan.subnet && (
        <>
          <h3 className="mt-3 font-semibold">Network</h3>
          <p>
            Subnet {plan.subnet}.{" "}
            {(plan.opened ?? []).length ? `Open: ${(plan.opened ?? []).join("; ")}.` : "No port is open to anybody."}
          </p>
        </>
      )}
      <Instances plan={plan} />
      {plan.verdicts.length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">
            Rules <Link to="/people?show=rules">all</Link>
          </h3>
          <ul>
            {plan.verdicts.map((verdict) => (
              <li key={`${verdict.rule} ${verdict.holds_for}`} className="mb-1">
                <span className={verdict.outcome === "refuse" ? "text-heed font-semibold" : "font-semibold"}>
                  {verdict.rule}
                </span>{" "}
                {outcomes[verdict.outcome]}. {verdict.reasons.join(" ")} {verdict.need.join(" ")}
              </li>
            ))}
          </ul>
        </>
      )}
      {(plan.allowances ?? []).length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">Allowances</h3>
          <ul>
            {(plan.allowances ?? []).map((one) => (
              <li key={one.name}>
                {one.name}: {one.used} of {one.most} used
              </li>
            ))}
          </ul>
        </>
      )}
      {Object.entries(plan.quotas ?? {}).length > 0 && (
        <>
          <h3 className="mt-3 font-semibold">Quotas of the site</h3>
          <ul>
            {Object.entries(plan.quotas ?? {}).map(([name, [used = 0, most = 0]]) => (
              <li key={name}>
                {name.replace("_", " ")}:{" "}
                {name.endsWith("bytes") ? `${iec(used)} of ${iec(most)}` : `${used} of ${most}`}
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}

/** Each instance with its first-boot settings; names alone where the settings are wrong. */
function Instances({ plan }: { plan: Plan }) {
  const each = plan.instances ?? [];
  return (
    <>
      <h3 className="mt-3 font-semibold">{each.length ? "Instances" : "Names"}</h3>
      {each.length === 0 && (
        <p className="font-mono">
          {plan.names.slice(0, 6).join(", ")}
          {plan.names.length > 6 && ` … ${plan.names.at(-1)}`}
        </p>
      )}
      <ul>
        {each.slice(0, 6).map((one) => (
          <li key={one.name} className="mb-1">
            <span className="font-mono">{one.name}</span>
            <span className="text-ink-2 block">
              {[
                one.full_name !== one.name && one.full_name,
                one.addresses.length ? one.addresses.join(", ") : "address by DHCP",
                one.time_zone,
                one.users.length > 0 && `users ${one.users.join(", ")}`,
              ]
                .filter(Boolean)
                .join("; ")}
            </span>
          </li>
        ))}
      </ul>
      {each.length > 6 && <p className="text-ink-2">… and {each.length - 6} more</p>}
    </>
  );
}
