import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { Facts, Heading, Moment, Short } from "~/parts/basics";
import { iec, plural, to } from "~/parts/text";

/** How a version was made, in words. */
function madeBy({ mode, source }: Schema["Version"]): string {
  if (source.sheet) return `a run of the sheet ${String(source.sheet)}`;
  const said: Record<string, string> = {
    edit: "an edit",
    import: "an import",
    build: "a build run",
    adopted: "an adoption",
  };
  return said[mode] ?? `${mode === "as-is" ? "an" : "a"} ${mode} capture`;
}

/** Facts, and the lineage as a drawing in words: machine, version, instances, what was made of it. */
export function About({ overview }: { overview: Schema["VersionOverview"] }) {
  const { version } = overview;
  const { needs, purpose } = version;
  return (
    <>
      <Facts
        rows={[
          ["Operating system", version.os.PRETTY_NAME ?? version.os.pretty_name ?? version.os.name ?? version.os.id],
          [
            version.disks.length > 1 ? "Disks" : "Disk",
            `${iec(version.sizes.virtual)}, of which ${iec(version.sizes.used)} in use`,
          ],
          ...version.disks.map((disk): [string, ReactNode] => [
            disk.role,
            version.disks.length > 1 && (
              <>
                {iec(disk.bytes)}, of which {iec(disk.used_bytes)} stored
                {disk.holds && <span className="text-small text-ink-2 block">{disk.holds}</span>}
              </>
            ),
          ]),
          ["Stored", `${iec(version.sizes.stored)}, of which ${iec(version.sizes.new)} were new to its region`],
          ["Made by", madeBy(version)],
          [
            "Generalized by",
            version.profile &&
              (version.profile.tool
                ? `its own tool, ${String(version.profile.tool)}: ${String(version.profile.told)}`
                : `profile ${String(version.profile.name)}`),
          ],
          ["Made", <Moment key="made" at={version.created_at} exact />],
          ["Packages", version.packages ?? "unknown: they cannot be listed"],
          ["Services", version.services.join(", ")],
          ["Users", version.users.join(", ")],
          ["Marks", version.marks.join(", ")],
          ["Holds", version.holds.join(", ")],
          ["Pin-only", version.pin_only && "launched only when named exactly"],
          [
            "Boots by",
            needs?.boot?.length
              ? `${needs.boot.join(" or ")}${needs.signed_loader ? ", its loader is signed" : ""}`
              : "",
          ],
          ["Made for", needs?.architecture],
          ["Can drive", [...(needs?.disk_drivers ?? []), ...(needs?.network_drivers ?? [])].join(", ")],
          ["Bound to", needs?.trusted_module && "a trusted module (TPM)"],
          ["Needs at least", capacity(purpose?.least)],
          ["Recommended", capacity(purpose?.recommended)],
          ["For sizes", purpose?.compatible_sizes?.join(", ")],
          ["Not for sizes", purpose?.excluded_sizes?.join(", ")],
          ["Contact", purpose?.contact],
          ["Terms", purpose?.licence],
          [
            "Labels",
            Object.entries(purpose?.labels ?? {})
              .map(([key, value]) => `${key}=${value}`)
              .join(", "),
          ],
          ["Retires on", !version.retired_at && version.retire_on],
          ["Content digest", <Short key="digest" text={version.content_digest} keep={24} />],
          ["Signed with", version.signed_with && <Short key="key" text={version.signed_with} keep={24} />],
        ]}
      />
      <Heading>Where it comes from, and what came of it</Heading>
      <Lineage overview={overview} />
    </>
  );
}

function capacity(wanted?: Schema["Capacity"]) {
  const parts = [
    wanted?.processors && plural(wanted.processors, "processor"),
    wanted?.memory_mib && iec(wanted.memory_mib * 1024 * 1024),
  ];
  return parts.filter(Boolean).join(", ");
}

/** What a version without a parent was made from: of a run, the disk that was copied, not its temporary machine. */
function origin({ mode, source }: Schema["Version"]): [string, string] {
  const copied = String(source.built_from ?? "");
  if (copied) return [copied.split(" ", 1)[0] ?? "", copied.slice(copied.indexOf(" ") + 1)];
  return [mode === "import" ? "file" : "machine", String(source.machine ?? source.file ?? "")];
}

function Lineage({ overview }: { overview: Schema["VersionOverview"] }) {
  const { version } = overview;
  const [kind, source] = origin(version);
  const running = overview.runs.reduce((sum, run) => sum + run.running, 0);
  const links: [string, React.ReactNode][] = [];
  if (version.parent)
    links.push([
      "version",
      <Link key="p" to={to.version(version.parent)}>
        {version.parent}
      </Link>,
    ]);
  else if (version.adopted_from) links.push(["taken over from", version.adopted_from]);
  if (source && !version.parent) links.push([kind, source]);
  links.push(["this version", <strong key="t">{version.number}</strong>]);
  if (running)
    links.push([
      "instances",
      <Link key="i" to={to.instances({ reference: version.reference })}>
        {running} running
      </Link>,
    ]);
  if (overview.children.length)
    links.push([
      "versions made from it",
      overview.children.map((child, place) => (
        <span key={child}>
          {place > 0 && ", "}
          <Link to={to.version(child)}>{child}</Link>
        </span>
      )),
    ]);
  return (
    <ol className="flex flex-wrap items-stretch gap-y-3 py-2">
      {links.map(([what, text], place) => (
        <li key={what} className="flex items-center">
          {place > 0 && (
            <svg width="34" height="12" aria-hidden className="text-ink-3 mx-1">
              <path d="M1 6h30m-6-4 6 4-6 4" fill="none" stroke="currentColor" />
            </svg>
          )}
          <span className="border-depth-3 border-l-2 pl-2">
            <span className="text-label text-ink-3 block">{what}</span>
            {text}
          </span>
        </li>
      ))}
    </ol>
  );
}
