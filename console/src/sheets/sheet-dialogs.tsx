import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, onceKey, since, type Schema } from "~/api/client";
import { Confirm, PlanShown } from "~/parts/dialog";
import { Choice, TextArea, TextField } from "~/parts/form";
import { plural, to } from "~/parts/text";

type Sheet = Schema["SavedSheetDetails"];
type Asked = { sheet: Sheet; close: () => void };

/** What a run would do now, and starting it. */
export function RunDialog({ sheet, close }: Asked) {
  const go = useNavigate();
  const [number, setNumber] = useState("");
  const [keep, setKeep] = useState(0);
  const asked = { values: {}, region: null, number: number || null, bump: null, tags: {}, unless_same: false };
  const body = { ...asked, keep_on_failure: keep };
  const { data: plan } = useQuery({
    queryKey: ["still", "run-plan", sheet.name, sheet.number, number],
    queryFn: () =>
      answer(http.POST("/api/v1/saved-sheets/{name}/run-plans", { params: { path: { name: sheet.name } }, body })),
    placeholderData: (before: Schema["BuildPlan"] | undefined) => before,
    gcTime: 0,
  });
  const act = async () => {
    const params = { path: { name: sheet.name }, header: onceKey() };
    const operation = await answer(http.POST("/api/v1/saved-sheets/{name}/runs", { params, body }));
    void go(to.operation(operation.id));
  };
  return (
    <Confirm
      title={`Run ${sheet.name}`}
      about={plan ? `It makes ${plan.reference} from ${plan.base}.` : "It is looked at what a run would do."}
      verb="Run it"
      act={act}
      close={close}
      unable={!plan || plan.blockers.length > 0}
    >
      <TextField
        label="Number"
        value={number}
        onChange={(e) => setNumber(e.target.value)}
        placeholder="as the sheet says"
        hint="Semantic Versioning, such as 1.4.0."
      />
      <Choice
        label="If a step fails"
        value={keep}
        onChange={(e) => setKeep(Number(e.target.value))}
        options={[
          ["0", "its machine is removed"],
          ["1800", "its machine stays for 30 minutes"],
          ["7200", "its machine stays for 2 hours"],
        ]}
      />
      {plan && <PlanShown plan={plan} />}
      {plan?.same_as && <p className="text-small text-ink-2">{plan.same_as} was built of all the same already.</p>}
    </Confirm>
  );
}

/** The text in an editor; every fault is told while one types. */
export function ChangeDialog({ sheet, close }: { sheet: Sheet | null; close: (saved?: string) => void }) {
  const cache = useQueryClient();
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
  const without = (check?.payload ?? []).filter((name) => !files[name]);
  const act = async () => {
    if (!check) return;
    const known = Object.entries(sheet?.values ?? {}).filter(([name]) => name in check.values);
    const body = {
      sheet: text,
      values: Object.fromEntries(known),
      payload: Object.fromEntries(Object.entries(files).filter(([name]) => check.payload.includes(name))),
      note,
    };
    const params = { path: { name: check.name }, header: sheet ? since(sheet.revision ?? "") : {} };
    const saved = await answer(http.PUT("/api/v1/saved-sheets/{name}", { params, body }));
    await cache.invalidateQueries();
    close(saved.name);
  };
  return (
    <Confirm
      title={sheet ? `Change ${sheet.name}` : "A new build sheet"}
      about="docs/build-sheets.md describes the format. Files of a payload are sent by `bathotype sheets save`."
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
            The file {name} of its payload is not here yet: save the sheet by the command line.
          </li>
        ))}
        {check?.valid && without.length === 0 && (
          <li className="text-small text-fair">
            {plural(check.steps.length, "step")}
            {check.kind === "sheet" ? ` on ${check.base}; it makes a version of ${check.line}.` : ` of a part.`}
          </li>
        )}
      </ul>
      <TextField label="Note" value={note} onChange={(e) => setNote(e.target.value)} placeholder="what, and why" />
    </Confirm>
  );
}

export function DropDialog({ sheet, close }: Asked) {
  const cache = useQueryClient();
  const go = useNavigate();
  const act = async () => {
    const params = { path: { name: sheet.name }, header: since(sheet.revision ?? "") };
    await answer(http.DELETE("/api/v1/saved-sheets/{name}", { params }));
    void go("/sheets");
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Remove ${sheet.name}`}
      about={`Its ${plural(sheet.texts.length, "text")} and its files go. ${sheet.kind === "part" ? "Sheets that include it keep the text that they have." : "Its runs, and what they made, stay."}`}
      verb="Remove it"
      loses
      act={act}
      close={close}
    />
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
