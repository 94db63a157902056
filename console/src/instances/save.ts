import { acting, Problem } from "~/api/client";

/** Every instance that fits the filters, as the service writes it: CSV, or a line of JSON for each. */
export async function save(asked: Record<string, unknown>, format: "csv" | "ndjson") {
  const query = new URLSearchParams({ format });
  for (const [name, value] of Object.entries(asked))
    for (const one of Array.isArray(value) ? value : [value]) if (one !== undefined) query.append(name, String(one));
  const response = await fetch(`/api/v1/instances?${query}`, { headers: { "Bathotype-Account": acting.account } });
  if (!response.ok) throw new Problem(response.status, `The service answered ${response.status}.`);
  const link = document.createElement("a");
  link.href = URL.createObjectURL(await response.blob());
  link.download = `instances.${format}`;
  link.click();
  URL.revokeObjectURL(link.href);
}
