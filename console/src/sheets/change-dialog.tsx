import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { answer, http, since, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Confirm } from "~/parts/dialog";
import { TextArea, TextField } from "~/parts/form";
import { plural } from "~/parts/text";
import { inBucket, PayloadFiles, sent } from "./payload-files";

type Sheet = Schema["SavedSheetDetails"];

/** The text in an editor; every fault is shown while one types. */
export function ChangeDialog({ sheet, close }: { sheet: Sheet | null; close: (saved?: string) => void }) {
  const cache = useQueryClient();
  const regions = useQuery(ask.regions()).data ?? [];
  const [chosen, setChosen] = useState<Record<string, File>>({});
  const [sending, setSending] = useState("");
  const open = useRef(true);
  useEffect(() => {
    open.current = true;
    return () => {
      open.current = false;
    };
  }, []);
  const [text, setText] = useState(sheet?.text ?? TEMPLATE);
  const [note, setNote] = useState("");
  const judged = useDeferredValue(text);
  const { data: check } = useQuery({
    queryKey: ["still", "sheet-check", judged],
    queryFn: () => answer(http.POST("/api/v1/sheets/checks", { body: { sheet: judged, values: null } })),
    placeholderData: (before: Schema["SheetCheck"] | undefined) => before,
    gcTime: 0,
  });
  const files = sheet?.files ?? {};
  const away = check?.in_buckets ?? {};
  const without = (check?.payload ?? []).filter((name) => !files[name] && !chosen[name] && !away[name]);
  const act = async () => {
    if (!check) return;
    const known = Object.entries(sheet?.values ?? {}).filter(([name]) => name in check.values);
    const region = regions.find((one) => one.reachable)?.name ?? "";
    const payload: Record<string, Schema["PayloadGiven"]> = {};
    try {
      for (const name of check.payload) {
        setSending(`Reading ${name} …`);
        const file = chosen[name];
        if (file) payload[name] = await sent(file, region, (percent) => setSending(`Sending ${name}: ${percent} %`));
        else payload[name] = files[name] ?? (await inBucket(away[name] ?? ""));
      }
    } finally {
      setSending("");
    }
    if (!open.current) return; // it was closed meanwhile: nothing is saved then
    const body = { sheet: text, values: Object.fromEntries(known), payload, note, newest_parts: [] };
    const params = { path: { name: check.name }, header: sheet ? since(sheet.revision ?? "") : {} };
    const saved = await answer(http.PUT("/api/v1/saved-sheets/{name}", { params, body }));
    await cache.invalidateQueries();
    close(saved.name);
  };
  return (
    <Confirm
      title={sheet ? `Change ${sheet.name}` : "A new build sheet"}
      about="docs/build-sheets.md describes the format."
      verb="Save it"
      act={act}
      close={() => close()}
      unable={!check?.valid || without.length > 0}
    >
      <TextArea
        label="Text"
        value={text}
        onChange={(e) => setText(e.target.value)}
        rows={16}
        spellCheck={false}
        style={{ fontFamily: "var(--font-mono)", fontSize: "12.5px" }}
      />
      <ul aria-live="polite" className="mb-3">
        {check?.faults.map((fault) => (
          <li key={`${fault.line} ${fault.column} ${fault.message}`} className="text-small text-heed">
            Line {fault.line}, column {fault.column}: {fault.message}
          </li>
        ))}
        {without.map((name) => (
          <li key={name} className="text-small text-heed">
            The file {name} of its payload is not here yet: choose it below.
          </li>
        ))}
        {check?.valid && without.length === 0 && (
          <li className="text-small text-fair">
            {plural(check.steps.length, "step")}
            {check.kind === "sheet" ? ` on ${check.base}; it makes a version of ${check.line}.` : ` of a part.`}
          </li>
        )}
      </ul>
      <PayloadFiles
        names={check?.payload ?? []}
        away={away}
        folders={check?.folders ?? {}}
        kept={files}
        choose={(name, file) => setChosen({ ...chosen, [name]: file })}
      />
      {sending && (
        <p role="status" className="text-small text-ink-2 mb-3">
          {sending}
        </p>
      )}
      <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} placeholder="what, and why" />
    </Confirm>
  );
}

const TEMPLATE = `sheet: my-sheet
base: gauge-collector
steps:
  - {id: updates, do: update-packages}
result: {line: gauge-collector, bump: minor}
when:
  schedule:
    - {days: [tuesday], at: "02:00"}
  zone: Etc/UTC
`;
