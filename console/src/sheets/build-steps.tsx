import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Facts, Heading, Short } from "~/parts/basics";
import { State } from "~/parts/state";
import { ahead, briefly, iec, plural, to } from "~/parts/text";
import { Base } from "~/sheets/base";
import { Figures } from "./figures";

/** What each step of a sheet changed and printed; it grows while the run goes on. */
export function BuildSteps({ operation, ended }: { operation: string; ended: boolean }) {
  const { data } = useQuery({ ...ask.build(operation), refetchInterval: ended ? false : 2000 });
  if (!data) return null;
  return (
    <>
      <Heading>
        The sheet{" "}
        {data.saved_number ? (
          <Link to={to.sheet(data.sheet)}>{`${data.sheet}, text ${data.saved_number}`}</Link>
        ) : (
          data.sheet
        )}
      </Heading>
      <Facts
        rows={[
          ["From", <Base key="f" name={data.base} />],
          ...Object.entries(data.values).map(([name, value]): [string, string] => [name, String(value)]),
          ...Object.entries(data.payload).map(([name, sha256]): [string, React.ReactNode] => [
            name,
            <Short key={name} text={`sha256:${sha256}`} keep={16} />,
          ]),
          [
            "Commit",
            data.commit && (
              <span key="c">
                <Short text={data.commit} keep={12} /> of {data.repository}
              </span>
            ),
          ],
          ["Delivered", data.delivered.join(", ")],
          [
            "Its machine stays",
            data.kept &&
              `${data.kept.name} in ${data.kept.region}, ${data.kept.address}, until ${ahead(data.kept.until)}`,
          ],
        ]}
      />
      <ol className="mt-3">
        {data.steps.map((step) => (
          <li key={step.id} className="border-hair border-b py-1.5">
            <Step step={step} />
          </li>
        ))}
      </ol>
      <Figures figures={data.figures} steps={data.steps} />
      <details className="mt-3">
        <summary className="text-small text-ink-2 cursor-pointer">The sheet as it ran</summary>
        <pre className="bg-depth-1 text-small mt-2 overflow-x-auto p-3" tabIndex={0} role="region" aria-label="Sheet">
          {data.text}
        </pre>
      </details>
    </>
  );
}

/** How full the disk was before a clean-up, and after it. */
function GivenBack({ used: [before = 0, after = 0] }: { used: number[] }) {
  return (
    <div className="text-small mt-2 max-w-md">
      <div className="bg-depth-2 h-2.5" aria-hidden>
        <div
          className="bg-ink-2 h-full"
          style={{ width: `${(100 * Math.min(after, before)) / Math.max(before, 1)}%` }}
        />
      </div>
      <p className="text-ink-2 mt-0.5">
        {iec(before)} in use before, {iec(after)} after
      </p>
    </div>
  );
}

function Step({ step }: { step: Schema["BuildStep"] }) {
  const more = step.changed.length > 0 || Boolean(step.error || step.output || step.why);
  const head = (
    <span className="grid grid-cols-[1rem_minmax(7rem,1fr)_9rem_9rem_4rem] gap-x-2 max-sm:grid-cols-[1rem_1fr_7rem]">
      <span aria-hidden className="text-ink-3 transition-transform group-open:rotate-90">
        {more ? "›" : ""}
      </span>
      <span className={step.state === "running" ? "font-semibold" : step.state === "pending" ? "text-ink-3" : ""}>
        {step.id}
      </span>
      <span className="text-ink-2 max-sm:hidden">{step.do}</span>
      <State
        state={step.state === "done" ? "succeeded" : step.state === "pending" ? "queued" : step.state}
      >{`${step.attempts > 1 ? ` in ${plural(step.attempts, "attempt")}` : ""}`}</State>
      <span className="text-ink-2 text-right max-sm:hidden">{step.seconds == null ? "" : briefly(step.seconds)}</span>
    </span>
  );
  if (!more) return head;
  return (
    <details open={step.state === "failed"} className="group">
      <summary className="cursor-pointer list-none">{head}</summary>
      <div className="pl-6">
        {step.why && <p className="text-small text-ink-2 mt-1">{step.why}</p>}
        {step.error && <p className="text-heed mt-1">{step.error}</p>}
        {step.changed.length > 0 && (
          <ul className="text-small mt-1">
            {step.changed.map((line, place) => (
              <li key={place}>{line}</li>
            ))}
          </ul>
        )}
        {step.used && <GivenBack used={step.used} />}
        {step.output && (
          <pre
            className="bg-depth-1 text-small mt-1 max-h-72 overflow-auto p-2 font-mono"
            tabIndex={0}
            role="region"
            aria-label={`What ${step.id} printed`}
          >
            {step.output}
          </pre>
        )}
      </div>
    </details>
  );
}
