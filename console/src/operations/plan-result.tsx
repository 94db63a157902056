import { Heading } from "~/parts/basics";
import { Table } from "~/parts/table";
import { iec, plural } from "~/parts/text";

type Change = { step: string; action: string; path: string; bytes?: number; note?: string };

/** What a capture would remove or change on the copy, path by path. */
export function PlanResult({ result }: { result: Record<string, unknown> }) {
  const changes = (Array.isArray(result.changes) ? result.changes : []) as Change[];
  const bytes = changes.reduce((sum, change) => sum + (change.bytes ?? 0), 0);
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
