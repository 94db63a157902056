import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, http, onceKey, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { ProblemShown } from "~/parts/basics";
import { Confirm, PlanShown } from "~/parts/dialog";
import { Check, Choice, NameField, TextField } from "~/parts/form";
import { pieces, to } from "~/parts/text";
import { ShareDialog } from "~/people/share-dialog";
import { EditDialog } from "./edit-dialog";
import { ExportDialog } from "./export-dialog";
import { Prove, Verify } from "./judging-dialogs";
import { ReplicateDialog } from "./replicate-dialog";

type Given = { overview: Schema["VersionOverview"]; close: () => void };

/** What a version's verbs ask before they act. */
export function VersionDialog({ verb, ...given }: Given & { verb: string }) {
  const reference = given.overview.version.reference;
  if (verb === "release") return <Release {...given} />;
  if (verb === "sunset") return <Sunset {...given} />;
  if (verb === "retire") return <Retire {...given} />;
  if (verb === "purge") return <Purge {...given} />;
  if (verb === "hold") return <Hold {...given} />;
  if (verb === "verify") return <Verify {...given} />;
  if (verb === "prove") return <Prove {...given} />;
  if (verb === "mark") return <MoveMark {...given} />;
  if (verb === "export") return <ExportDialog {...given} />;
  if (verb === "share") return <ShareDialog subject={reference} close={given.close} />;
  if (verb === "replicate") return <ReplicateDialog {...given} />;
  if (verb === "edit") return <EditDialog {...given} />;
  return null;
}

/** Does it, and renews what is shown. */
function useDone() {
  const cache = useQueryClient();
  return async (call: Promise<unknown>) => {
    await call;
    await cache.invalidateQueries();
  };
}

function Release({ overview, close }: Given) {
  const done = useDone();
  const { reference } = overview.version;
  const act = () =>
    done(answer(http.POST("/api/v1/versions/{reference}/release", { params: { path: { reference } } })));
  return (
    <Confirm
      title={`Release ${reference}`}
      about="Launches of the bare line take the newest released version. It goes to the regions of the line's placement."
      verb="Release it"
      act={act}
      close={close}
    />
  );
}

function Sunset({ overview, close }: Given) {
  const done = useDone();
  const { reference } = overview.version;
  const moves = overview.version.state === "sunset";
  const [on, setOn] = useState(new Date(Date.now() + 30 * 86_400_000).toISOString().slice(0, 10));
  const plan = useQuery({
    queryKey: ["sunset-plan", reference, on],
    queryFn: () =>
      answer(
        http.GET("/api/v1/versions/{reference}/sunset-plan", {
          params: { path: { reference }, query: { retire_on: on || undefined } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const act = () =>
    done(
      answer(
        http.POST("/api/v1/versions/{reference}/sunset", {
          params: { path: { reference } },
          body: { retire_on: on || null },
        }),
      ),
    );
  return (
    <Confirm
      title={moves ? `Move the end of ${reference}` : `Announce the end of ${reference}`}
      about="It stays launchable by its exact number, with a warning."
      unable={Boolean(plan.data?.blockers.length)}
      verb={moves ? "Move it" : "Announce it"}
      act={act}
      close={close}
    >
      <TextField
        label="It retires on"
        type="date"
        value={on}
        onChange={(e) => setOn(e.target.value)}
        hint="It retires by itself on this day. Left out: no day is set."
      />
      {plan.error && <ProblemShown problem={plan.error} />}
      {plan.data && <PlanShown plan={plan.data} />}
    </Confirm>
  );
}

function Retire({ overview, close }: Given) {
  const done = useDone();
  const { reference } = overview.version;
  const plan = useQuery({
    queryKey: ["retirement", reference],
    queryFn: () => answer(http.GET("/api/v1/versions/{reference}/retirement", { params: { path: { reference } } })),
  });
  const act = () => done(answer(http.POST("/api/v1/versions/{reference}/retire", { params: { path: { reference } } })));
  return (
    <Confirm
      title={`Retire ${reference}`}
      verb="Retire it"
      unable={Boolean(plan.data?.blockers.length)}
      act={act}
      close={close}
    >
      {plan.error && <ProblemShown problem={plan.error} />}
      {plan.data && <PlanShown plan={plan.data} />}
    </Confirm>
  );
}

function Purge({ overview, close }: Given) {
  const done = useDone();
  const go = useNavigate();
  const { reference } = overview.version;
  const [waive, setWaive] = useState(false);
  const plan = useQuery({
    queryKey: ["purging", reference, waive],
    queryFn: () =>
      answer(
        http.GET("/api/v1/versions/{reference}/purging", {
          params: { path: { reference }, query: { waive_grace: waive } },
        }),
      ),
  });
  const act = async () => {
    const operation = await answer(
      http.POST("/api/v1/versions/{reference}/purge", {
        params: { path: { reference }, header: onceKey() },
        body: { waive_grace: waive },
      }),
    );
    await done(Promise.resolve());
    void go(to.operation(operation.id));
  };
  return (
    <Confirm
      title={`Purge the bytes of ${reference}`}
      verb="Purge them"
      typed={reference}
      loses
      unable={Boolean(plan.data?.blockers.length)}
      act={act}
      close={close}
    >
      {plan.data && <PlanShown plan={plan.data} />}
      <Check label="Do not wait for the grace period" checked={waive} onChange={(e) => setWaive(e.target.checked)} />
    </Confirm>
  );
}

function Hold({ overview, close }: Given) {
  const done = useDone();
  const { reference } = overview.version;
  const [name, setName] = useState("");
  const [reason, setReason] = useState("");
  const act = () =>
    done(
      answer(
        http.POST("/api/v1/versions/{reference}/holds", { params: { path: { reference } }, body: { name, reason } }),
      ),
    );
  return (
    <Confirm title={`Forbid the purge of ${reference}`} verb="Place the hold" act={act} close={close}>
      <NameField
        label="Name of the hold"
        value={name}
        onChange={(e) => setName(e.target.value)}
        required
        placeholder="audit-2026"
      />
      <TextField label="Reason" value={reason} onChange={(e) => setReason(e.target.value)} required minLength={3} />
    </Confirm>
  );
}

function MoveMark({ overview, close }: Given) {
  const done = useDone();
  const { line, reference } = overview.version;
  const { number } = pieces(reference);
  const others = (useQuery(ask.versions(line)).data?.items ?? []).filter(
    (v) => v.number !== number && v.state === "released",
  );
  const [mark, setMark] = useState(overview.version.marks[0] ?? "");
  const [chosen, setChosen] = useState("");
  const target = chosen || (others[0]?.number ?? "");
  const act = () =>
    done(
      answer(
        http.PUT("/api/v1/lines/{name}/marks/{mark}", {
          params: { path: { name: line, mark } },
          body: { number: target },
        }),
      ),
    );
  return (
    <Confirm title={`Move a mark away from ${reference}`} verb="Move it" act={act} close={close}>
      <Choice label="Mark" value={mark} onChange={(e) => setMark(e.target.value)} options={overview.version.marks} />
      <Choice
        label="To version"
        value={target}
        onChange={(e) => setChosen(e.target.value)}
        options={others.map((v) => v.number)}
      />
    </Confirm>
  );
}
