import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { Facts, Moment, Short } from "~/parts/basics";
import { iec, to } from "~/parts/text";

/** What the site and the records say of a machine. */
export function MachineFacts({ machine }: { machine: Schema["Machine"] }) {
  return (
    <Facts
      rows={[
        ["Id", <Short key="id" text={machine.id} keep={20} />],
        ["Region", `${machine.region}, zone ${machine.zone}`],
        ["Size", machine.machine_size],
        ["Address", machine.address],
        [
          "Disks",
          machine.disks.map((disk) => `${disk.name} ${iec(disk.size)}${disk.boot ? ", boots" : ""}`).join("; "),
        ],
        [
          "Tags",
          Object.entries(machine.tags)
            .map(([key, value]) => `${key}=${value}`)
            .join(", "),
        ],
        ["Made", <Moment key="made" at={machine.created_at} exact />],
        [
          "Stems from",
          machine.version && (
            <Link key="v" to={to.version(machine.version)}>
              {machine.version}
            </Link>
          ),
        ],
        [
          "Last capture",
          machine.captured && (
            <Link key="c" to={to.version(machine.captured)}>
              {machine.captured}
            </Link>
          ),
        ],
      ]}
    />
  );
}
