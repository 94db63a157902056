/** Sizes, counts, days and moments for people. */

const units = ["B", "KiB", "MiB", "GiB", "TiB"];

/** A number of bytes in IEC units: 1536 is "1.5 KiB". */
export function iec(count: number): string {
  let value = count;
  for (const unit of units) {
    if (Math.abs(value) < 1023.95 || unit === "TiB") return unit === "B" ? `${value} B` : `${value.toFixed(1)} ${unit}`;
    value /= 1024;
  }
  return "";
}

/** The bytes of a size as people write it, such as "20 GiB"; null for what is none. */
export function bytes(text: string): number | null {
  const found = /^\s*(\d{1,15}(?:\.\d{1,6})?)\s*([KMGT]i)?B?\s*$/i.exec(text);
  if (!found) return null;
  const power = found[2] ? units.findIndex((unit) => unit.toLowerCase() === `${found[2]}B`.toLowerCase()) : 0;
  return Math.floor(Number(found[1]) * 1024 ** power);
}

/** "1 instance", "2 instances", "3 copies". */
export function plural(count: number, noun: string): string {
  if (count === 1) return `1 ${noun}`;
  const many = /[^aeiou]y$/.test(noun) ? `${noun.slice(0, -1)}ies` : noun.endsWith("s") ? `${noun}es` : `${noun}s`;
  return `${count.toLocaleString("en-GB")} ${many}`;
}

/** "40 s", "2 min 5 s", "1 h 4 min". */
export function span(seconds: number): string {
  if (seconds < 1) return "less than 1 s";
  const whole = Math.round(seconds);
  if (whole < 60) return `${whole} s`;
  if (whole < 3600) return `${Math.floor(whole / 60)} min${whole % 60 ? ` ${whole % 60} s` : ""}`;
  return `${Math.floor(whole / 3600)} h ${Math.floor((whole % 3600) / 60)} min`;
}

const DAY = 86_400_000;

/** "14 Dec", with the year where it is another one. */
export function day(iso: string): string {
  const at = new Date(iso.length === 10 ? `${iso}T00:00:00Z` : iso);
  const other = at.getUTCFullYear() !== new Date().getUTCFullYear();
  return at.toLocaleDateString("en-GB", {
    day: "numeric",
    month: "short",
    year: other ? "numeric" : undefined,
    timeZone: "UTC",
  });
}

/** "Sat 28 Nov, 01:00" in local time: a date that is ahead. */
export function ahead(iso: string): string {
  const at = new Date(iso);
  const days = at.toLocaleDateString("en-GB", { weekday: "short", day: "numeric", month: "short" }).replace(",", "");
  return `${days}, ${at.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" })}`;
}

/** Whole days from today to a date. */
export const daysTo = (iso: string) =>
  Math.round(
    (Date.parse(`${iso.slice(0, 10)}T00:00:00Z`) - Date.parse(`${new Date().toISOString().slice(0, 10)}T00:00:00Z`)) /
      DAY,
  );

/** "in 18 days", "tomorrow", "today", "3 days ago". */
export function away(iso: string): string {
  const days = daysTo(iso);
  if (days === 0) return "today";
  if (days === 1) return "tomorrow";
  return days > 0 ? `in ${plural(days, "day")}` : `${plural(-days, "day")} ago`;
}

/** "just now", "4 min ago", "3 h ago", "2 days ago". */
export function ago(iso: string, now = Date.now()): string {
  const seconds = (now - Date.parse(iso)) / 1000;
  if (seconds < 45) return "just now";
  if (seconds < 3600) return `${Math.max(1, Math.round(seconds / 60))} min ago`;
  if (seconds < 86_400) return `${Math.round(seconds / 3600)} h ago`;
  return `${plural(Math.round(seconds / 86_400), "day")} ago`;
}

/** "26 Nov, 14:12:19" in local time, with the year where it is another one. */
export function moment(iso: string): string {
  const at = new Date(iso);
  const other = at.getFullYear() !== new Date().getFullYear();
  const day = { day: "numeric", month: "short", year: other ? "numeric" : undefined } as const;
  return at.toLocaleString("en-GB", { ...day, hour: "2-digit", minute: "2-digit", second: "2-digit" });
}

/** "gauge-collector@1.2.0" and "tide-core/gauge-collector@1.2.0" in their pieces. */
export function pieces(reference: string) {
  const [named = "", number = ""] = reference.split("@");
  const [first = "", second] = named.split("/");
  return second ? { account: first, line: second, number } : { account: "", line: first, number };
}

/** A time that may be short: `0.3 s`, else as `span` has it. */
export const briefly = (seconds: number) => (seconds < 10 ? `${seconds.toFixed(1)} s` : span(seconds));

/** Addresses of pages. */
export const to = {
  line: (name: string) => `/lines/${encodeURIComponent(name)}`,
  version: (reference: string, show = "") =>
    `/versions/${reference.split("/").map(encodeURIComponent).join("/").replace("%40", "@")}${show ? `?show=${show}` : ""}`,
  sheet: (name: string) => `/sheets/${encodeURIComponent(name)}`,
  operation: (id: string) => `/operations/${id}`,
  instance: (id: string) => `/instances/${id}`,
  machine: (region: string, id: string) => `/machines/${region}/${encodeURIComponent(id)}`,
  instances: (filter: Record<string, string>) => `/instances?${new URLSearchParams(filter)}`,
  launch: (reference: string) => `/launch?of=${encodeURIComponent(reference)}`,
};
