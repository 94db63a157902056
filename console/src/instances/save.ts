import { answer, http, type Schema } from "~/api/client";
import { csv } from "./csv";

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
