import { Heading } from "~/parts/basics";
import { Table } from "~/parts/table";
import { iec, plural } from "~/parts/text";

type Change = { step: string; action: string; path: string; bytes?: number; note?: string };

/** What a capture would remove or change on the copy, path by path. */
export function PlanResult({ result }: { result: Record<string, unknown> }) {
  const changes = (Array.isArray(result.changes) ? result.changes : []) as Change[];
  const bytes = changes.reduce((sum, change) => sum + (change.bytes ?? 0), 0);
  const blockers = texts(result.blockers);
  const warnings = texts(result.warnings);
  return (
    <>
      {blockers.length > 0 && <Heading>{plural(blockers.length, "obstacle")}</Heading>}
      {blockers.map((why) => (
        <p key={why} className="border-heed mt-2 border-l-2 pl-3">
          {why}
        </p>
      ))}
      {warnings.length > 0 && <Heading>{plural(warnings.length, "thing")} to know</Heading>}
      {warnings.map((why) => (
        <p key={why} className="mt-2">
          {why}
        </p>
      ))}
      {blockers.length === 0 && <Changes changes={changes} bytes={bytes} />}
    </>
  );
}

const texts = (given: unknown) => (Array.isArray(given) ? (given as string[]) : []);

function Changes({ changes, bytes }: { changes: Change[]; bytes: number }) {
  return (
    <>
      <Heading>
        {plural(changes.length, "change")} on the copy, {iec(bytes)}
      </Heading>
      <Table
        label="Changes"
        rows={changes}
        id={(change) => `${change.step} ${change.action} ${change.path}`}
        columns={[
          { head: "step", cell: (change) => change.step },
          { head: "does", cell: (change) => change.action },
          { head: "path", cell: (change) => <code className="text-small font-mono">{change.path}</code> },
          { head: "bytes", number: true, cell: (change) => (change.bytes ? iec(change.bytes) : "") },
          { head: "", cell: (change) => <span className="text-ink-2">{change.note}</span> },
        ]}
      />
    </>
  );
}
