import type { Schema } from "~/api/client";

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
