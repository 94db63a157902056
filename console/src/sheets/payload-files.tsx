import { answer, http, onceKey, Problem, type Schema } from "~/api/client";
import { sendFile, sha256 } from "~/api/uploads";
import { TextField } from "~/parts/form";
import { iec } from "~/parts/text";

type Given = Schema["PayloadGiven"];

const KEPT = "bathotype.payload";
/** What a page may hold in memory to read a file's digest. */
const MOST = 1024 ** 3;

type Asked = {
  names: string[];
  /** Those that are in buckets: their addresses. */
  away: Record<string, string>;
  /** Those that are folders: their paths. */
  folders: Record<string, string>;
  kept: Record<string, Given>;
  choose: (name: string, file: File) => void;
};

/** A field for each file of a payload: what is kept of it, and another to take instead. */
export function PayloadFiles({ names, away, folders, kept, choose }: Asked) {
  return names.map((name) => {
    const held = kept[name];
    const what = folders[name] ? `Archive (tar) of the folder ${folders[name]}` : `File ${name}`;
    const here = held ? `${iec(held.bytes)} are kept; choose a file to replace them.` : "Choose the file to send.";
    return away[name] ? (
      <p key={name} className="text-small text-ink-2 mb-3">
        The file {name} is in a bucket, {away[name]}.{" "}
        {held ? "" : "The service reads it once, to know what it must be."}
      </p>
    ) : (
      <TextField
        key={name}
        label={what}
        type="file"
        hint={here}
        onChange={(e) => e.target.files?.[0] && choose(name, e.target.files[0])}
      />
    );
  });
}

/** A chosen file, sent to the service. */
export async function sent(file: File, region: string, tell: (percent: number) => void): Promise<Given> {
  if (file.size > MOST) {
    const advice = "Save the sheet by `bathotype sheets save`, which reads it piece by piece.";
    throw new Problem(0, `${file.name} is larger than ${iec(MOST)}.`, "too-large", advice);
  }
  const digest = [...(await sha256(file))].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  const upload = await sendFile(file, region, KEPT, (done) => tell(Math.round((100 * done) / file.size)));
  localStorage.removeItem(KEPT);
  return { upload, bytes: file.size, sha256: digest };
}

/** A file in a bucket, as it is now: an operation of the service reads it. */
export async function inBucket(address: string): Promise<Given> {
  let operation = await answer(
    http.POST("/api/v1/bucket-digests", { body: { address }, params: { header: onceKey() } }),
  );
  while (!operation.ended_at) {
    await new Promise((resolve) => setTimeout(resolve, 400));
    const params = { path: { operation_id: operation.id } };
    operation = await answer(http.GET("/api/v1/operations/{operation_id}", { params }));
  }
  if (operation.state !== "succeeded") {
    const why = operation.error;
    throw new Problem(0, why?.message ?? `${address} was not read.`, why?.code, why?.advice ?? "");
  }
  const found = operation.result as { bytes: number; sha256: string };
  return { upload: null, bytes: found.bytes, sha256: found.sha256 };
}
