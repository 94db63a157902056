import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { acting, answer, http, onceKey, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Confirm } from "~/parts/dialog";
import { Check, Choice, TextField } from "~/parts/form";
import { iec, to } from "~/parts/text";
import { useSession } from "~/app/session";

type Format = Schema["ExportRequest"]["format"];

const formats: [Format, string, string][] = [
  ["raw", "raw", "raw"],
  ["qcow2", "qcow2", "qcow2"],
  ["qcow2-zstd", "qcow2, compressed with zstd", "qcow2"],
  ["vhd", "VHD", "vhd"],
  ["vhdx", "VHDX", "vhdx"],
  ["vmdk", "VMDK", "vmdk"],
  ["ova", "OVA", "ova"],
];

/** A version as a file: the browser saves it, or the service writes it to a bucket. */
export function ExportDialog({ overview, close }: { overview: Schema["VersionOverview"]; close: () => void }) {
  const { reference, disks } = overview.version;
  const go = useNavigate();
  const { may } = useSession();
  const buckets = (useQuery(ask.buckets()).data ?? []).filter((bucket) => bucket.writes && may("operate"));
  const [format, setFormat] = useState<Format>("qcow2");
  const [disk, setDisk] = useState("boot");
  const [bucket, setBucket] = useState("");
  const [named, setNamed] = useState("");
  const [overwrite, setOverwrite] = useState(false);
  const one = disks.length > 1 && format !== "ova";
  const suffix = formats.find(([name]) => name === format)?.[2] ?? format;
  const key = named || `${reference.split("/").pop()?.replace("@", "-")}${one ? `-${disk}` : ""}.${suffix}`;
  const act = async () => {
    if (!bucket) {
      const asked = new URLSearchParams({ format, account: acting.account });
      if (one) asked.set("disk", disk);
      location.assign(`/api/v1/versions/${encodeURIComponent(reference)}/disk?${asked}`);
      return;
    }
    const body = { to: `s3://${bucket}/${key}`, format, disk: one ? disk : null, region: null, overwrite };
    const params = { path: { reference }, header: onceKey() };
    const operation = await answer(http.POST("/api/v1/versions/{reference}/exports", { params, body }));
    void go(to.operation(operation.id));
  };
  const about = bucket
    ? "The service writes it there. It is there when it is whole."
    : "Your browser saves it. The command line's `bathotype export` goes on where it stopped, and checks the digest.";
  return (
    <Confirm
      title={`Take ${reference} out as a file`}
      about={about}
      verb={bucket ? "Write the file" : "Save the file"}
      act={act}
      close={close}
    >
      {buckets.length > 0 && (
        <Choice
          label="Where to"
          value={bucket}
          onChange={(e) => setBucket(e.target.value)}
          options={[["", "this computer"], ...buckets.map((b): [string, string] => [b.name, `the bucket ${b.name}`])]}
        />
      )}
      <Choice
        label="Format"
        value={format}
        onChange={(e) => setFormat(e.target.value as Format)}
        options={formats.map(([name, title]): [string, string] => [name, title])}
      />
      {one && (
        <Choice
          label="Disk"
          hint="An OVA holds them all."
          value={disk}
          onChange={(e) => setDisk(e.target.value)}
          options={disks.map((d): [string, string] => [d.role, `${d.role}, ${iec(d.bytes)}`])}
        />
      )}
      {disks.length > 1 && !one && <p className="text-small text-ink-2">The archive holds all {disks.length} disks.</p>}
      {bucket && (
        <>
          <TextField label="Name in the bucket" value={key} onChange={(e) => setNamed(e.target.value)} required />
          <Check
            label="Replace what is there by that name"
            checked={overwrite}
            onChange={(e) => setOverwrite(e.target.checked)}
          />
        </>
      )}
    </Confirm>
  );
}
