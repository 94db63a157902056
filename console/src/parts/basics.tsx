import clsx from "clsx";
import { useState, type ButtonHTMLAttributes, type ReactNode } from "react";
import { Problem } from "~/api/client";
import { ago, day, moment } from "./text";

type ButtonProps = ButtonHTMLAttributes<HTMLButtonElement> & { kind?: "main" | "plain" | "heed" | "quiet" };

/** Main: the one thing that a form is for.  Heed: what loses something.  Plain and quiet: everything else. */
export function Button({ kind = "plain", className, type = "button", ...rest }: ButtonProps) {
  return (
    <button
      type={type}
      className={clsx(
        "rounded-edge text-body disabled:opacity-60",
        kind === "main" && "bg-link text-on-link px-3 py-1.5 font-medium hover:enabled:opacity-90",
        kind === "heed" && "border-heed text-heed hover:enabled:bg-heed-soft border px-3 py-1.5 font-medium",
        kind === "plain" && "border-rule hover:enabled:border-ink-3 border px-3 py-1.5",
        kind === "quiet" && "text-link text-left hover:enabled:underline hover:enabled:underline-offset-3",
        className,
      )}
      {...rest}
    />
  );
}

/** A heading of a part of a page. */
export function Heading({ children, id, aside }: { children: ReactNode; id?: string; aside?: ReactNode }) {
  return (
    <div className="mt-8 mb-1 flex items-baseline justify-between gap-4 first:mt-0">
      <h2 id={id} className="text-label text-ink-2 font-semibold">
        {children}
      </h2>
      {aside}
    </div>
  );
}

/** Named facts; those without a value are left out. */
export function Facts({ rows }: { rows: [string, ReactNode][] }) {
  const shown = rows.filter(([, value]) => value !== "" && value !== null && value !== undefined && value !== false);
  return (
    <dl className="text-body grid grid-cols-[minmax(5rem,auto)_minmax(0,1fr)] gap-x-6">
      {shown.map(([name, value]) => (
        <div key={name} className="border-hair col-span-2 grid grid-cols-subgrid border-b py-1.5">
          <dt className="text-ink-3">{name}</dt>
          <dd className="wrap-anywhere">{value}</dd>
        </div>
      ))}
    </dl>
  );
}

/** A moment: how long ago, or local time; UTC on hover. */
export function Moment({ at, exact = false }: { at: string; exact?: boolean }) {
  const utc = `${at.slice(0, 19).replace("T", " ")} UTC`;
  return (
    <time dateTime={at} title={utc}>
      {exact ? moment(at) : ago(at)}
    </time>
  );
}

export const Day = ({ on }: { on: string }) => <time dateTime={on}>{day(on)}</time>;

/** A long id or digest, shortened, with a button that copies it. */
export function Short({ text, keep = 12 }: { text: string; keep?: number }) {
  const shown = text.length > keep + 3 ? `${text.slice(0, keep)}…` : text;
  return (
    <span className="whitespace-nowrap">
      <code className="text-small font-mono" title={text}>
        {shown}
      </code>{" "}
      <Copy text={text} />
    </span>
  );
}

/** What is shown once: all of it, in as many rows as it takes. */
export const Whole = ({ text }: { text: string }) => (
  <span>
    <code className="text-small font-mono break-all">{text}</code> <Copy text={text} />
  </span>
);

function Copy({ text }: { text: string }) {
  const [copied, setCopied] = useState(false);
  const copy = () => {
    void navigator.clipboard.writeText(text).then(() => setCopied(true));
    setTimeout(() => setCopied(false), 1500);
  };
  return (
    <button type="button" onClick={copy} className="text-label text-link" aria-label={`Copy ${text}`}>
      {copied ? "copied" : "copy"}
    </button>
  );
}

/** What the service said about a failure, word for word. */
export function ProblemShown({ problem }: { problem: unknown }) {
  const told = problem instanceof Problem ? problem : new Problem(0, String(problem));
  return (
    <div role="alert" className="border-heed bg-heed-soft text-body my-3 border-l-2 px-3 py-2">
      <p className="font-medium">{told.message}</p>
      {told.advice && <p>{told.advice}</p>}
      {told.requestId && <p className="text-label text-ink-2">Request {told.requestId}</p>}
    </div>
  );
}

/** Where there is nothing: what to do first. */
export const Empty = ({ children }: { children: ReactNode }) => <p className="text-ink-2 py-3">{children}</p>;

export const Loading = () => (
  <p className="text-ink-3 py-3" role="status">
    Loading …
  </p>
);
