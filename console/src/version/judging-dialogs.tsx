import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, onceKey, type Schema } from "~/api/client";
import { Confirm } from "~/parts/dialog";
import { Choice } from "~/parts/form";
import { to } from "~/parts/text";

type Given = { overview: Schema["VersionOverview"]; close: () => void };

/** Checking the bytes of a version in a region. */
export function Verify({ overview, close }: Given) {
  const go = useNavigate();
  const { reference, regions } = overview.version;
  const [region, setRegion] = useState(regions[0] ?? "");
  const act = async () => {
    const operation = await answer(
      http.POST("/api/v1/versions/{reference}/verify", { params: { path: { reference }, query: { region } } }),
    );
    void go(to.operation(operation.id));
  };
  return (
    <Confirm
      title={`Check the bytes of ${reference}`}
      about="Every chunk is read and checked against its digest. Damage is healed from another region, if there is one."
      verb="Check them"
      act={act}
      close={close}
    >
      <Choice label="Region" value={region} onChange={(e) => setRegion(e.target.value)} options={regions} />
    </Confirm>
  );
}

/** Judging a throwaway instance of it. */
export function Prove({ overview, close }: Given) {
  const go = useNavigate();
  const { reference, regions } = overview.version;
  const [region, setRegion] = useState(regions[0] ?? "");
  const act = async () => {
    const body = { reference, region, ready_seconds: 900, tags: {} };
    const operation = await answer(http.POST("/api/v1/checks", { params: { header: onceKey() }, body }));
    void go(to.operation(operation.id));
  };
  return (
    <Confirm
      title={`Prove ${reference}`}
      about="A throwaway instance of it is started and judged: that it comes up as itself, and by the checks of its last run."
      verb="Prove it"
      act={act}
      close={close}
    >
      <Choice label="Region" value={region} onChange={(e) => setRegion(e.target.value)} options={regions} />
    </Confirm>
  );
}
