import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, onceKey, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { ProblemShown } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { Check, TextField } from "~/parts/form";
import { iec, span, to } from "~/parts/text";

/** Copies a version to regions; what moves is shown before. */
export function ReplicateDialog({ overview, close }: { overview: Schema["VersionOverview"]; close: () => void }) {
  const { reference, regions: held } = overview.version;
  const cache = useQueryClient();
  const go = useNavigate();
  const regions = useQuery(ask.regions()).data ?? [];
  const [chosen, setChosen] = useState<string[] | null>(null);
  const [copies, setCopies] = useState(1);
  const wanted = chosen ?? regions.map((r) => r.name).filter((name) => !held.includes(name));
  const body = { to: wanted.map((region) => ({ region, copies, multi_zone: false })) };
  const path = { reference };
  const plan = useQuery({
    queryKey: ["replication-plan", reference, body],
    queryFn: () => answer(http.POST("/api/v1/versions/{reference}/replication-plan", { params: { path }, body })),
    enabled: wanted.length > 0,
  });
  const act = async () => {
    const { operations } = await answer(
      http.POST("/api/v1/versions/{reference}/replications", { params: { path, header: onceKey() }, body }),
    );
    await cache.invalidateQueries();
    if (operations[0]) void go(operations.length === 1 ? to.operation(operations[0].id) : "/operations");
  };
  const toggle = (name: string) =>
    setChosen(wanted.includes(name) ? wanted.filter((one) => one !== name) : [...wanted, name]);
  return (
    <Confirm
      title={`Copy ${reference} to other regions`}
      about="Only chunks that a region does not hold yet are moved."
      verb="Copy it"
      act={act}
      close={close}
    >
      {regions.map((region) => (
        <Check
          key={region.name}
          label={`${region.name}${held.includes(region.name) ? ", where it is already" : ""}`}
          checked={wanted.includes(region.name)}
          onChange={() => toggle(region.name)}
        />
      ))}
      <TextField
        label="Launch-ready disks in each"
        type="number"
        min={0}
        max={64}
        value={copies}
        onChange={(e) => setCopies(Number(e.target.value))}
      />
      {plan.error && <ProblemShown problem={plan.error} />}
      <ul className="text-small">
        {plan.data?.moves.map((move) => (
          <li key={move.region}>
            {move.region}:{" "}
            {move.blockers.length
              ? move.blockers.join(" ")
              : `${iec(move.bytes)} ${move.source ? `from ${move.source}` : ""}${move.seconds ? `, about ${span(move.seconds)}` : ""}`}
          </li>
        ))}
      </ul>
    </Confirm>
  );
}
