import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { acting, answer, http, onceKey, Problem } from "~/api/client";
import { ask } from "~/api/queries";
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
    const upload = await sendFile(file, region, setDone);
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

async function sendFile(file: File, region: string, tell: (done: number) => void): Promise<string> {
  const mark = `${file.name} ${file.size} ${file.lastModified}`;
  const kept = JSON.parse(localStorage.getItem(KEPT) ?? "null") as { mark: string; id: string } | null;
  let upload = null;
  if (kept?.mark === mark) {
    upload = await answer(http.GET("/api/v1/uploads/{upload}", { params: { path: { upload: kept.id } } })).catch(
      () => null,
    );
  }
  upload ??= await answer(
    http.POST("/api/v1/uploads", { body: { name: file.name, size: file.size, region }, params: { header: onceKey() } }),
  );
  localStorage.setItem(KEPT, JSON.stringify({ mark, id: upload.id }));
  const there = new Set(upload.parts);
  const parts = Math.max(1, Math.ceil(file.size / upload.part_bytes));
  for (let part = 0; part < parts; part++) {
    if (!there.has(part)) {
      const body = file.slice(part * upload.part_bytes, (part + 1) * upload.part_bytes);
      const digest = new Uint8Array(await crypto.subtle.digest("SHA-256", await body.arrayBuffer()));
      const told = `sha-256=:${btoa(String.fromCharCode(...digest))}:`; // RFC 9530
      const headers = {
        "Content-Digest": told,
        "X-CSRF-Token": acting.csrf,
        "Bathotype-Account": acting.account,
        "Content-Type": "application/octet-stream",
      };
      const sent = await fetch(`/api/v1/uploads/${upload.id}/parts/${part}`, { method: "PUT", body, headers });
      if (!sent.ok) {
        const wrong = (await sent.json().catch(() => ({}))) as Record<string, string>;
        throw new Problem(
          sent.status,
          wrong.detail ?? `The service answered ${sent.status}.`,
          wrong.code,
          wrong.advice,
          wrong.request_id,
        );
      }
    }
    tell(Math.min(file.size, (part + 1) * upload.part_bytes));
  }
  return upload.id;
}
