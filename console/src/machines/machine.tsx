import { useQuery } from "@tanstack/react-query";
import { useParams, useSearchParams } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Heading, Loading, ProblemShown } from "~/parts/basics";
import { Page } from "~/parts/page";
import { Says, Sentence } from "~/parts/sentence";
import { iec, plural } from "~/parts/text";
import { CaptureForm } from "./capture-form";
import { LookedAt } from "./looked-at";
import { MachineFacts } from "./machine-facts";

const states = { running: "runs", stopped: "is off" } as Record<string, string>;

/**
 * Can I capture this machine, and what would happen?  What the site says of it is there at once; to read its disk and to
 * ask its agent takes longer.
 */
export function Component() {
  const { region = "", machine = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const disks = search.getAll("disk");
  const known = useQuery(ask.machine(machine, region));
  const looked = useQuery(ask.inspection(machine, region, disks));
  const take = (names: string[]) =>
    setSearch(
      (old) => {
        const next = new URLSearchParams(old);
        next.delete("disk");
        for (const name of names) next.append("disk", name);
        return next;
      },
      { replace: true },
    );
  const data = looked.data;
  const found = data?.machine ?? known.data;
  if (looked.error) return <ProblemShown problem={looked.error} />;
  if (!found)
    return (
      <>
        <p className="text-say font-medium">Looking at {machine} …</p>
        <Loading />
      </>
    );
  return (
    <Page
      aside={
        data ? (
          <CaptureForm inspection={data} line={search.get("line") ?? ""} disks={disks} take={take} />
        ) : (
          <p className="text-ink-2">What a capture would do is shown here once its disk has been read.</p>
        )
      }
    >
      {data ? (
        <Verdict found={data} some={disks.length > 0} />
      ) : (
        <Says under="Its disk is being read, and its agent asked.">
          {`${found.name} ${states[found.state] ?? `is ${found.state}`} in ${found.region}.`}
        </Says>
      )}
      <Heading>What was looked at</Heading>
      {data ? (
        <LookedAt remarks={data.remarks} />
      ) : (
        <p role="status" className="text-ink-3 py-3">
          Reading its disk, asking its agent …
        </p>
      )}
      <Heading>The machine</Heading>
      <MachineFacts machine={found} />
    </Page>
  );
}

/** Whether it can be captured, and how. */
function Verdict({ found, some }: { found: Schema["Inspection"]; some: boolean }) {
  const count = (outcome: string) => found.remarks.filter((remark) => remark.outcome === outcome).length;
  const can = found.capturable ? "can be captured" : "cannot be captured now";
  const how = found.mode === "live" ? " while it runs" : found.mode === "stopped" ? " as it is off" : "";
  const warnings = count("warning") ? `; ${plural(count("warning"), "thing")} to know` : "";
  const rest = found.capturable ? `${how}${warnings}` : `: ${plural(count("obstacle"), "obstacle")}`;
  return (
    <Sentence
      parts={[
        { text: found.machine.name, strong: true, heed: false, about: "" },
        { text: ` ${can}`, strong: false, heed: !found.capturable, about: "" },
        { text: `${rest}.`, strong: false, heed: false, about: "" },
      ]}
      under={
        found.used_bytes
          ? `${iec(found.used_bytes)} of ${some ? "these disks" : "its boot disk"} would be captured. The machine keeps its identity${found.mode === "live" ? ", and keeps running" : ""}.`
          : "The machine keeps its identity."
      }
    />
  );
}
