import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, type Schema } from "~/api/client";
import { useSession } from "~/app/session";
import { Button, Empty, Loading, ProblemShown } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { TextArea } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { plural } from "~/parts/text";

type Finding = Schema["Finding"];

/** What the residue scan found, and who accepted it why. */
export function Findings({ reference }: { reference: string }) {
  const pages = usePages(["findings", reference], (cursor) =>
    answer(
      http.GET("/api/v1/versions/{reference}/findings", {
        params: { path: { reference }, query: { limit: 100, cursor, total: !cursor } },
      }),
    ),
  );
  const [asked, setAsked] = useState<Finding | null>(null);
  const { may } = useSession();
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  if (!pages.rows.length)
    return <Empty>The scan found nothing that still identifies the source or endangers anybody.</Empty>;
  return (
    <>
      <p className="text-ink-2 mb-2">
        {plural(pages.total ?? pages.rows.length, "finding")}. Those of high severity must be removed, or accepted by
        name with a reason, before the version can be released.
      </p>
      <ul>
        {pages.rows.map((finding) => (
          <li key={finding.id} className="border-hair grid grid-cols-[4.5rem_1fr_auto] gap-x-3 border-b py-2.5">
            <span
              className={finding.severity === "high" && !finding.accepted_by ? "text-heed font-semibold" : "text-ink-2"}
            >
              {finding.severity}
            </span>
            <div>
              <p className="font-semibold">
                {finding.path}
                {finding.line > 0 && <span className="text-ink-2 font-normal">, line {finding.line}</span>}
              </p>
              <p className="text-ink-2">
                {finding.rule}
                {finding.excerpt && (
                  <>
                    : <code className="text-small font-mono">{finding.excerpt}</code>
                  </>
                )}
              </p>
              {finding.accepted_by ? (
                <p className="text-small">
                  Accepted by {finding.accepted_by}: {finding.accepted_reason}
                </p>
              ) : (
                <p className="text-small text-ink-2">{finding.advice}</p>
              )}
            </div>
            {!finding.accepted_by && may("operate") && (
              <Button
                kind="quiet"
                className="self-start font-semibold"
                onClick={() => setAsked(finding)}
                aria-label={`Accept ${finding.rule} in ${finding.path}`}
              >
                Accept
              </Button>
            )}
          </li>
        ))}
      </ul>
      <More pages={pages} />
      {asked && <Accept finding={asked} reference={reference} close={() => setAsked(null)} />}
    </>
  );
}

function Accept({ finding, reference, close }: { finding: Finding; reference: string; close: () => void }) {
  const cache = useQueryClient();
  const [reason, setReason] = useState("");
  const act = async () => {
    await answer(
      http.POST("/api/v1/versions/{reference}/findings/{finding}/acceptance", {
        params: { path: { reference, finding: finding.id } },
        body: { reason },
      }),
    );
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Accept ${finding.rule} in ${finding.path}`}
      about="Your name and the reason are recorded. The finding stays in the report."
      verb="Accept it"
      act={act}
      close={close}
    >
      <TextArea
        label="Reason"
        value={reason}
        onChange={(e) => setReason(e.target.value)}
        required
        minLength={3}
        autoFocus
      />
    </Confirm>
  );
}
