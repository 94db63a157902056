import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, since, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { ProblemShown } from "~/parts/basics";
import { Confirm, PlanShown } from "~/parts/dialog";
import { Choice, NameField } from "~/parts/form";
import { ShareDialog } from "~/people/share-dialog";
import { to } from "~/parts/text";
import { DescribeDialog, DropDialog } from "./about-dialogs";
import { DemandDialog } from "./demand-dialog";
import { ImportDialog } from "./import-dialog";

type Given = { name: string; close: () => void; versions: Schema["Version"][] };

/** What a line's verbs ask before they act. */
export function LineDialog({ verb, ...given }: Given & { verb: string }) {
  if (verb === "mark") return <MarkDialog {...given} />;
  if (verb === "placement") return <PlacementDialog {...given} />;
  if (verb === "share") return <ShareDialog subject={given.name} close={given.close} />;
  if (verb === "demand") return <DemandDialog {...given} />;
  if (verb === "describe") return <DescribeDialog {...given} />;
  if (verb === "drop") return <DropDialog {...given} />;
  if (verb === "import") return <ImportDialog line={given.name} close={given.close} />;
  return null;
}

function MarkDialog({ name, close, versions }: Given) {
  const cache = useQueryClient();
  const [mark, setMark] = useState("stable");
  const [number, setNumber] = useState(versions[0]?.number ?? "");
  const act = async () => {
    await answer(http.PUT("/api/v1/lines/{name}/marks/{mark}", { params: { path: { name, mark } }, body: { number } }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Set a mark on ${name}`}
      about="Whoever launches the mark gets the version that it points to."
      verb="Set the mark"
      act={act}
      close={close}
    >
      <NameField label="Mark" value={mark} onChange={(e) => setMark(e.target.value)} required />
      <Choice
        label="Version"
        value={number}
        onChange={(e) => setNumber(e.target.value)}
        options={versions
          .filter((v) => v.state !== "purged")
          .map((v): [string, string] => [v.number, `${v.number}, ${v.state}`])}
      />
    </Confirm>
  );
}

function PlacementDialog({ name, close }: Given) {
  const cache = useQueryClient();
  const go = useNavigate();
  const regions = useQuery(ask.regions());
  const now = useQuery({
    queryKey: ["placement", name],
    queryFn: () => answer(http.GET("/api/v1/lines/{name}/placement", { params: { path: { name } } })),
  });
  const [changed, setChanged] = useState<Record<string, number> | null>(null);
  const copies =
    changed ?? Object.fromEntries((now.data?.regions ?? []).map((place) => [place.region, place.copies ?? 1]));
  const body = {
    regions: Object.entries(copies).map(([region, count]) => ({ region, copies: count, multi_zone: false })),
  };
  const plan = useQuery({
    queryKey: ["placement-plan", name, body],
    queryFn: () => answer(http.POST("/api/v1/lines/{name}/placement-plan", { params: { path: { name } }, body })),
    enabled: now.isSuccess,
  });
  const act = async () => {
    const header = now.data ? since(now.data.revision ?? "") : {};
    const result = await answer(
      http.PUT("/api/v1/lines/{name}/placement", { params: { path: { name }, header }, body }),
    );
    await cache.invalidateQueries();
    if (result.operations[0]) void go(to.operation(result.operations[0].id));
  };
  return (
    <Confirm
      title={`Regions of ${name}`}
      about="Released versions go there by themselves. A region that is left out is emptied."
      verb="Place them"
      act={act}
      close={close}
    >
      {(regions.data ?? []).map((region) => (
        <Choice
          key={region.name}
          label={region.name}
          value={region.name in copies ? String(copies[region.name]) : ""}
          onChange={(e) => {
            const next = { ...copies };
            if (e.target.value === "") delete next[region.name];
            else next[region.name] = Number(e.target.value);
            setChanged(next);
          }}
          options={[
            ["", "not there"],
            ["0", "its bytes, no launch-ready disk"],
            ["1", "1 launch-ready disk"],
            ["2", "2 launch-ready disks"],
            ["4", "4 launch-ready disks"],
          ]}
        />
      ))}
      {plan.error && <ProblemShown problem={plan.error} />}
      {plan.data && <PlanShown plan={plan.data} />}
    </Confirm>
  );
}
