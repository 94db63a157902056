import type { Schema } from "~/api/client";
import { ahead } from "~/parts/text";

/** When a saved sheet runs next by itself: "on Sat 28 Nov, 01:00, and after a release of its base". */
export function nextRun(sheet: Schema["SavedSheet"]): string {
  if (sheet.paused) return "paused";
  if (sheet.withdrawn) return "not in its repository any more";
  const parts = [
    sheet.next_at ? `on ${ahead(sheet.next_at)}` : "",
    sheet.after_base ? "after a release of its base" : "",
    sheet.after_push ? "after a push that changes it" : "",
  ];
  return parts.filter(Boolean).join(", and ") || "when somebody asks";
}
