import { useQuery } from "@tanstack/react-query";
import { Link, useParams, useSearchParams } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Facts, Heading, Loading, Moment, ProblemShown, Short } from "~/parts/basics";
import { Page } from "~/parts/page";
import { Sentence } from "~/parts/sentence";
import { iec, plural, to } from "~/parts/text";
import { CaptureForm } from "./capture-form";

/** Can I capture this machine, and what would happen? */
export function Component() {
  const { region = "", machine = "" } = useParams();
  const [search, setSearch] = useSearchParams();
  const disks = search.getAll("disk");
  const { data, error } = useQuery(ask.inspection(machine, region, disks));
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
  if (error) return <ProblemShown problem={error} />;
  if (!data)
    return (
      <>
        <p className="text-say font-medium">Looking at {machine} …</p>
        <Loading />
      </>
    );
  const found = data.machine;
  const obstacles = data.remarks.filter((remark) => remark.outcome === "obstacle").length;
  const warnings = data.remarks.filter((remark) => remark.outcome === "warning").length;
  const can = data.capturable ? "can be captured" : "cannot be captured now";
  const how = data.mode === "live" ? " while it runs" : data.mode === "stopped" ? " as it is off" : "";
  const why = data.capturable
    ? warnings
      ? `; ${plural(warnings, "thing")} to know`
      : ""
    : `: ${plural(obstacles, "obstacle")}`;
  return (
    <Page aside={<CaptureForm inspection={data} line={search.get("line") ?? ""} disks={disks} take={take} />}>
      <Sentence
        parts={[
          { text: found.name, strong: true, heed: false, about: "" },
          { text: ` ${can}`, strong: false, heed: !data.capturable, about: "" },
          { text: `${data.capturable ? how : ""}${why}.`, strong: false, heed: false, about: "" },
        ]}
        under={
          data.used_bytes
            ? `${iec(data.used_bytes)} of ${disks.length ? "these disks" : "its boot disk"} would be captured. The machine keeps its identity${data.mode === "live" ? ", and keeps running" : ""}.`
            : "The machine keeps its identity."
        }
      />
      <Heading>What was looked at</Heading>
      <ul>
        {ordered(data.remarks).map((remark, place) => (
          <li key={`${remark.check} ${place}`} className="border-hair grid grid-cols-[6rem_1fr] gap-x-3 border-b py-2">
            <span
              className={
                remark.outcome === "obstacle"
                  ? "text-heed font-semibold"
                  : remark.outcome === "warning"
                    ? "font-semibold"
                    : "text-fair"
              }
            >
              {remark.outcome === "ok" ? "in order" : remark.outcome}
            </span>
            <div>
              <p>{remark.why}</p>
              {remark.advice && <p className="text-small text-ink-2">{remark.advice}</p>}
            </div>
          </li>
        ))}
      </ul>
      <Heading>The machine</Heading>
      <Facts
        rows={[
          ["Id", <Short key="id" text={found.id} keep={20} />],
          ["Region", `${found.region}, zone ${found.zone}`],
          ["Size", found.machine_size],
          ["Address", found.address],
          [
            "Disks",
            found.disks.map((disk) => `${disk.name} ${iec(disk.size)}${disk.boot ? ", boots" : ""}`).join("; "),
          ],
          [
            "Tags",
            Object.entries(found.tags)
              .map(([key, value]) => `${key}=${value}`)
              .join(", "),
          ],
          ["Made", <Moment key="made" at={found.created_at} exact />],
          [
            "Stems from",
            found.version && (
              <Link key="v" to={to.version(found.version)}>
                {found.version}
              </Link>
            ),
          ],
          [
            "Last capture",
            found.captured && (
              <Link key="c" to={to.version(found.captured)}>
                {found.captured}
              </Link>
            ),
          ],
        ]}
      />
    </Page>
  );
}

const order = { obstacle: 0, warning: 1, ok: 2 };
const ordered = (remarks: Schema["Remark"][]) => [...remarks].sort((a, b) => order[a.outcome] - order[b.outcome]);
