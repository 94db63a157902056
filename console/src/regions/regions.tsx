import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Facts, Heading, Loading, ProblemShown } from "~/parts/basics";
import { Stored } from "./stored";
import { Bar } from "~/parts/progress";
import { Says } from "~/parts/sentence";
import { iec, plural, to } from "~/parts/text";

/** Every region: whether its site answers, what it allows, what is used of it. */
export function Component() {
  const { data, error } = useQuery(ask.regions());
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const out = data.filter((region) => !region.reachable);
  return (
    <>
      <Says>
        {out.length
          ? `${out.map((region) => region.name).join(" and ")} ${out.length === 1 ? "does" : "do"} not answer.`
          : `All ${data.length} regions answer.`}
      </Says>
      {data.map((region) => (
        <Region key={region.name} region={region} />
      ))}
    </>
  );
}

function Region({ region }: { region: Schema["RegionState"] }) {
  return (
    <section className="mt-6 grid grid-cols-1 gap-x-10 gap-y-4 lg:grid-cols-2" aria-label={region.name}>
      <div>
        <Heading>{region.name}</Heading>
        {!region.reachable && <p className="text-heed">Its site does not answer: {region.problem}</p>}
        <Facts
          rows={[
            [
              "Instances",
              <Link key="i" to={to.instances({ region: region.name })}>
                {plural(region.running, "instance")}
              </Link>,
            ],
            ["Versions", `${plural(region.versions, "version")} ${region.versions === 1 ? "is" : "are"} kept here`],
            [
              "Damaged",
              region.damaged > 0 && (
                <span key="d" className="text-heed">
                  {plural(region.damaged, "replica")}
                </span>
              ),
            ],
            ["Zones", region.zones.join(", ")],
            [
              "Machine sizes",
              (region.sizes ?? [])
                .map(
                  (size) =>
                    `${size.name} (${plural(size.processors ?? 0, "processor")}, ${iec((size.memory_mib ?? 0) * 1048576)})`,
                )
                .join("; "),
            ],
            ["Machines boot by", region.machines?.boot.join(" or ")],
            ["Trusted module", region.machines && (region.machines.trusted_module ? "there" : "none")],
            ["Largest disk", region.largest_disk && iec(region.largest_disk)],
            ...Object.entries(region.quotas).map(([name, [used = 0, most = 0]]): [string, React.ReactNode] => [
              name === "disk_bytes" ? "Disks" : `${name[0]!.toUpperCase()}${name.slice(1)}`,
              <span key={name}>
                {name.endsWith("bytes") ? `${iec(used)} of ${iec(most)}` : `${used} of ${most}`}
                <Bar
                  percent={Math.min(100, (100 * used) / Math.max(1, most))}
                  label={`${name.replace("_", " ")} used in ${region.name}`}
                />
              </span>,
            ]),
          ]}
        />
      </div>
      <Stored region={region.name} />
    </section>
  );
}
