import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, onceKey, since, type Schema } from "~/api/client";
import { Confirm, PlanShown } from "~/parts/dialog";
import { Choice, TextField } from "~/parts/form";
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
      {plan?.same_as && <p className="text-small text-ink-2">{plan.same_as} was already built from the same.</p>}
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
