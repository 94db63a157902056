import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Facts, Heading, Loading, Moment, ProblemShown, Short } from "~/parts/basics";
import { Offers } from "~/parts/offers";
import { Page } from "~/parts/page";
import { Bar, titleOf, told, waits } from "~/parts/progress";
import { Sentence } from "~/parts/sentence";
import { State } from "~/parts/state";
import { iec, plural, span, to } from "~/parts/text";
import { BuildSteps } from "~/sheets/build-steps";
import { CheckResults, Proofs } from "~/sheets/judged";
import { PlanResult } from "./plan-result";

type Operation = Schema["Operation"];

/** One operation, live: leave and come back, cancel, run again. */
export function Component() {
  const id = useParams().id ?? "";
  const cache = useQueryClient();
  const { data, error } = useQuery({
    ...ask.operation(id),
    refetchInterval: (query) => (query.state.data?.ended_at ? false : 5000),
  });
  const log = useQuery(ask.log(id));
  const act = useMutation({
    mutationFn: (verb: string) => {
      const params = { path: { operation_id: id } };
      return answer(
        verb === "cancel"
          ? http.POST("/api/v1/operations/{operation_id}/cancel", { params })
          : http.POST("/api/v1/operations/{operation_id}/retry", { params }),
      );
    },
    onSuccess: (now) => {
      cache.setQueryData(["operation", id], now);
      void cache.invalidateQueries();
    },
  });
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  return (
    <Page
      aside={
        <>
          <Offers offers={data.offers ?? []} act={(verb) => act.mutate(verb)} />
          {act.error && <ProblemShown problem={act.error} />}
          <Facts
            rows={[
              ["Id", <Short key="id" text={data.id} keep={12} />],
              ["By", data.created_by],
              ["Asked for", <Moment key="b" at={data.created_at} exact />],
              ["Begins", data.state === "queued" && data.start_at && <Moment key="w" at={data.start_at} exact />],
              ["Ended", data.ended_at && <Moment key="e" at={data.ended_at} exact />],
              ["Attempts", data.attempts > 1 && data.attempts],
            ]}
          />
        </>
      }
    >
      <Sentence
        parts={[
          { text: titleOf(data), strong: true, heed: false, about: "" },
          { text: saying(data), strong: false, heed: data.state === "failed", about: "" },
        ]}
        under={data.ended_at ? undefined : "You can leave this page: it goes on by itself."}
      />
      {!data.ended_at && (
        <div className="my-4">
          <Bar percent={data.percent} label="Progress" />
          <p aria-live="polite">
            {told(data)}
            {data.rate ? ` at ${iec(Math.round(data.rate))}/s` : ""}
          </p>
        </div>
      )}
      {data.error && (
        <div className="border-heed bg-heed-soft my-4 border-l-2 px-3 py-2">
          <p className="font-medium">{data.error.message}</p>
          <p>{data.error.advice}</p>
        </div>
      )}
      <Result operation={data} />
      {data.kind === "build" && <BuildSteps operation={id} ended={Boolean(data.ended_at)} />}
      {(data.kind === "build" || data.kind === "prove") && data.ended_at && <CheckResults operation={id} />}
      {data.kind === "build" && <Proofs run={id} />}
      <Heading>Steps</Heading>
      <ol>
        {data.steps.map((step) => (
          <li
            key={step.name}
            className="border-hair grid grid-cols-[1fr_8rem_11rem_5.5rem] gap-x-4 border-b py-1.5 max-sm:grid-cols-[1fr_6rem]"
          >
            <span className={step.state === "running" ? "font-semibold" : step.state === "pending" ? "text-ink-3" : ""}>
              {step.title}
            </span>
            {step.state === "pending" && data.ended_at ? (
              <span className="text-ink-3">not begun</span>
            ) : (
              <State state={step.state === "done" ? "succeeded" : step.state === "pending" ? "queued" : step.state} />
            )}
            <span className="text-ink-2 text-right tabular-nums max-sm:hidden">
              {step.bytes_total ? `${sizeIn(step)(step.bytes_done ?? 0)} of ${sizeIn(step)(step.bytes_total)}` : ""}
            </span>
            <span className="text-ink-2 text-right max-sm:hidden">
              {step.started_at && step.ended_at
                ? span((Date.parse(step.ended_at) - Date.parse(step.started_at)) / 1000)
                : ""}
            </span>
          </li>
        ))}
      </ol>
      <Heading>Log</Heading>
      {log.data?.length ? (
        <ol className="text-small font-mono" aria-label="Log">
          {log.data.map((line, place) => (
            <li key={place} className={line.level === "info" ? "" : "text-heed"}>
              <span className="text-ink-3">{line.at.slice(11, 19)} </span>
              {line.text}
            </li>
          ))}
        </ol>
      ) : (
        <p className="text-ink-2">It has written nothing yet.</p>
      )}
    </Page>
  );
}

/** Steps that count things count fewer than any that counts bytes. */
const sizeIn = (step: { bytes_total: number }) => (step.bytes_total < 1024 ? String : iec);

function saying(operation: Operation): string {
  const took =
    operation.started_at && operation.ended_at
      ? ` in ${span((Date.parse(operation.ended_at) - Date.parse(operation.started_at)) / 1000)}`
      : "";
  return {
    queued: ` ${waits(operation)}.`,
    running: ` is ${Math.floor(operation.percent)} % done.`,
    succeeded: ` succeeded${took}.`,
    failed: ` failed${took}.`,
    cancelled: ` was cancelled${took}.`,
  }[operation.state];
}

/** What came of it, with the way there. */
function Result({ operation }: { operation: Operation }) {
  const result = operation.result;
  if (!result) return null;
  if (operation.kind === "capture-plan") return <PlanResult result={result} />;
  const reference = typeof result.reference === "string" ? result.reference : "";
  const instances = Array.isArray(result.instances)
    ? (result.instances as { id: string; name?: string; state?: string }[])
    : [];
  return (
    <div className="my-4">
      {reference && operation.kind !== "launch" && (
        <p>
          It made{" "}
          <Link to={to.version(reference)} className="font-semibold">
            {reference}
          </Link>
          {typeof result.new_bytes === "number" ? `, ${iec(result.new_bytes)} new in its region` : ""}
          {typeof result.frozen_seconds === "number"
            ? `; the machine was held still for ${result.frozen_seconds.toFixed(2)} s`
            : ""}
          .
        </p>
      )}
      {instances.length > 0 && (
        <p>
          {plural(instances.length, "instance")}:{" "}
          {instances.map((one, place) => (
            <span key={one.id}>
              {place > 0 && ", "}
              <Link to={to.instance(one.id)}>{one.name ?? one.id}</Link>
            </span>
          ))}
        </p>
      )}
    </div>
  );
}
