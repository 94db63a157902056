import { Link } from "react-router";
import type { Schema } from "~/api/client";
import { Empty, Moment } from "~/parts/basics";
import { to } from "~/parts/text";

type Event = Schema["Event"];

/** Events, newest first: who did what to what, when, from where, and what was different before and after. */
export function EventRows({ events, empty }: { events: Event[]; empty: string }) {
  if (!events.length) return <Empty>{empty}</Empty>;
  return (
    <ol>
      {events.map((event) => (
        <li key={event.id} className="border-hair grid grid-cols-[8.5rem_1fr] gap-x-4 border-b py-2 max-sm:grid-cols-1">
          <span className="text-ink-3">
            <Moment at={event.at} exact />
          </span>
          <div>
            <p>
              <span className="font-semibold">{event.actor}</span> {words(event.action)} <Subject event={event} />
            </p>
            <p className="text-small text-ink-2">
              {changes(event)}
              {event.source && <span className="text-ink-3"> from {event.source}</span>}
            </p>
          </div>
        </li>
      ))}
    </ol>
  );
}

const words = (action: string) => action.replace(".", " ").replaceAll("-", " ");

function Subject({ event }: { event: Event }) {
  const { subject } = event;
  const operation = event.after?.operation;
  if (typeof operation === "string") return <Link to={to.operation(operation)}>{subject}</Link>;
  if (/^[\w/.-]+@\d+\.\d+\.\d+/.test(subject)) return <Link to={to.version(subject)}>{subject}</Link>;
  if (subject.startsWith("in-")) return <Link to={to.instance(subject)}>{subject}</Link>;
  return <span>{subject}</span>;
}

/** What was different before and after, in a line; what was not said, and what is empty, is left out. */
function changes(event: Event): string {
  const before = event.before ?? {};
  return Object.entries(event.after ?? {})
    .filter(([name]) => name !== "operation")
    .map(([name, value]) => {
      const text = plain(value);
      const was = plain(before[name]);
      if (!text) return "";
      return was && was !== text ? `${name}: ${was} → ${text}` : `${name}: ${text}`;
    })
    .filter(Boolean)
    .join("; ")
    .slice(0, 400);
}

function plain(value: unknown): string {
  if (value === null || value === undefined || value === false || value === "") return "";
  if (Array.isArray(value)) return value.map(plain).join(", ");
  if (typeof value !== "object") return String(value);
  const told = value as Record<string, unknown>;
  return "message" in told ? String(told.message) : JSON.stringify(value);
}
