import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, onceKey, Problem } from "~/api/client";
import { ask } from "~/api/queries";
import { sendFile } from "~/api/uploads";
import { Confirm } from "~/parts/dialog";
import { Choice, TextField } from "~/parts/form";
import { Bar } from "~/parts/progress";
import { iec, to } from "~/parts/text";

const KEPT = "bathotype.upload";

/** Brings in a file: in parts, and where it was left off if the same file is chosen again. */
export function ImportDialog({ line, close }: { line: string; close: () => void }) {
  const cache = useQueryClient();
  const go = useNavigate();
  const [file, setFile] = useState<File | null>(null);
  const [number, setNumber] = useState("");
  const [profile, setProfile] = useState("linux");
  const regions = useQuery(ask.regions()).data ?? [];
  const [chosen, setRegion] = useState("");
  const region = chosen || (regions[0]?.name ?? "");
  const [done, setDone] = useState(0);
  const act = async () => {
    if (!file) throw new Problem(0, "No file is chosen.", "no-file", "Choose the file of a disk.");
    const upload = await sendFile(file, region, KEPT, setDone);
    const body = {
      line,
      upload,
      number: number || null,
      bump: number ? null : ("minor" as const),
      profile: profile || null,
      notes: "",
    };
    const operation = await answer(http.POST("/api/v1/imports", { body, params: { header: onceKey() } }));
    localStorage.removeItem(KEPT);
    await cache.invalidateQueries();
    void go(to.operation(operation.id));
  };
  return (
    <Confirm
      title={`Bring a version into ${line}`}
      about="raw, qcow2, VHD, VHDX, VDI, VMDK or OVA; the format is found by itself. Close this and choose the same file again to go on where it stopped."
      verb="Bring it in"
      act={act}
      close={close}
    >
      <TextField
        label="File"
        type="file"
        onChange={(e) => setFile(e.target.files?.[0] ?? null)}
        hint={file ? iec(file.size) : ""}
      />
      <Choice
        label="Region"
        value={region}
        onChange={(e) => setRegion(e.target.value)}
        options={regions.map((r) => r.name)}
        hint="Where its bytes are stored first."
      />
      <TextField
        label="Number"
        value={number}
        onChange={(e) => setNumber(e.target.value)}
        placeholder="next minor"
        hint="Semantic Versioning, such as 2.0.0. Left out: the next minor one."
      />
      <Choice
        label="Generalize"
        value={profile}
        onChange={(e) => setProfile(e.target.value)}
        options={[
          ["linux", "with the profile linux"],
          ["", "not: the disk is clean already"],
        ]}
      />
      {file && done > 0 && <Bar percent={(100 * done) / file.size} label={`Sending ${file.name}`} />}
    </Confirm>
  );
}
