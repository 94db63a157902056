import { useQuery } from "@tanstack/react-query";
import { answer, http, whole, type Schema } from "~/api/client";
import { Button } from "~/parts/basics";
import { Choice, TextField } from "~/parts/form";

export type SecretFile = Schema["SecretFile"];

/** Secrets of the account that first boot writes to files. */
export function SecretFiles({ files, set }: { files: SecretFile[]; set: (files: SecretFile[]) => void }) {
  const { data: secrets } = useQuery({
    queryKey: ["secrets", "names"],
    queryFn: () =>
      whole((cursor) => answer(http.GET("/api/v1/secrets", { params: { query: { limit: 100, cursor } } }))),
  });
  const names = (secrets ?? []).map((one) => one.name);
  if (names.length === 0) return null; // where there is no secret, there is nothing to choose
  const change = (at: number, to: Partial<SecretFile>) =>
    set(files.map((file, number) => (number === at ? { ...file, ...to } : file)));
  return (
    <fieldset className="mb-3">
      <legend className="text-small mb-1 font-medium">Secrets in files</legend>
      {files.map((file, at) => (
        <div key={at} className="grid items-start gap-x-5 sm:grid-cols-[1fr_1fr_auto]">
          <Choice
            label="Secret"
            value={file.secret}
            onChange={(e) => change(at, { secret: e.target.value })}
            options={names}
          />
          <TextField
            label="Path"
            value={file.path ?? ""}
            onChange={(e) => change(at, { path: e.target.value || null })}
            placeholder={`/run/bathotype/${file.secret}`}
            hint="Left out: in memory, gone after a restart."
          />
          <Button
            kind="quiet"
            className="sm:mt-7"
            aria-label={`Do not write ${file.secret}`}
            onClick={() => set(files.filter((_, number) => number !== at))}
          >
            Remove
          </Button>
        </div>
      ))}
      <Button
        kind="quiet"
        disabled={files.length >= 20}
        onClick={() => set([...files, { secret: names[0] ?? "", path: null, mode: "0600" }])}
      >
        Write a secret to a file
      </Button>
    </fieldset>
  );
}
