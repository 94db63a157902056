import { answer, http, type Schema } from "~/api/client";

const fields = [
  "id",
  "name",
  "state",
  "reference",
  "behind",
  "newest",
  "region",
  "zone",
  "address",
  "machine_id",
  "launched_at",
] as const;

/** Text that a spreadsheet takes as text, whatever it begins with. */
function cell(value: unknown): string {
  const text = String(value ?? "");
  const safe = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text;
  return /[",\n]/.test(safe) ? `"${safe.replaceAll('"', '""')}"` : safe;
}

export const csv = (rows: Schema["Instance"][]) =>
  [fields.join(","), ...rows.map((row) => fields.map((name) => cell(row[name])).join(","))].join("\r\n");

/** Every instance that fits the filters, as a file. */
export async function saveCsv(asked: object) {
  const rows: Schema["Instance"][] = [];
  let cursor: string | undefined;
  do {
    const page = await answer(http.GET("/api/v1/instances", { params: { query: { ...asked, limit: 500, cursor } } }));
    rows.push(...page.items);
    cursor = page.next ?? undefined;
  } while (cursor);
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([csv(rows)], { type: "text/csv" }));
  link.download = "instances.csv";
  link.click();
  URL.revokeObjectURL(link.href);
}
