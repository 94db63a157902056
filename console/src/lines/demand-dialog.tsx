import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Confirm } from "~/parts/dialog";
import { Check, Choice } from "~/parts/form";

type Severity = Schema["Line"]["demands"];

/** What a version of a line needs before its release. */
export function DemandDialog({ name, close }: { name: string; close: () => void }) {
  const cache = useQueryClient();
  const { data } = useQuery(ask.line(name));
  const [severity, setSeverity] = useState<Severity | "">("");
  const [proven, setProven] = useState<boolean | null>(null);
  const act = async () => {
    const body = { severity: severity || null, proven_first: proven };
    await answer(http.PUT("/api/v1/lines/{name}/demands", { params: { path: { name } }, body }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`What a release of ${name} needs`}
      about="It holds for releases from now on; what is released stays so."
      verb="Demand it"
      act={act}
      close={close}
    >
      <Choice
        label="Findings that must be accepted"
        value={severity || (data?.line.demands ?? "high")}
        onChange={(e) => setSeverity(e.target.value as Severity)}
        options={[
          ["high", "of high severity"],
          ["medium", "of high and medium severity"],
          ["low", "all of them"],
        ]}
      />
      <Check
        label="Its last checks have passed"
        checked={proven ?? data?.line.proven_first ?? false}
        onChange={(e) => setProven(e.target.checked)}
      />
    </Confirm>
  );
}
