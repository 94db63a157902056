import type { Readable } from "openapi-typescript-helpers";
import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

type All = components["schemas"];
/** The models of the API, as answers hold them. */
export type Schema = { [Name in keyof All]: Readable<All[Name]> };

/** The service's own words about what went wrong (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly code = "failed",
    readonly advice = "",
    readonly requestId = "",
  ) {
    super(message);
  }
}

/** Who is signed in and for which account this page acts; set by the session, read by every call. */
export const acting = { csrf: "", account: "" };

const headers: Middleware = {
  onRequest({ request }) {
    if (acting.account) request.headers.set("Bathotype-Account", acting.account);
    if (request.method !== "GET") request.headers.set("X-CSRF-Token", acting.csrf);
    return request;
  },
};

export const http = createClient<paths, "application/json">({
  baseUrl: location.origin,
  fetch: (r) => globalThis.fetch(r),
});
http.use(headers);

type Answered<T> = Promise<{ data?: T; error?: unknown; response: Response }>;

/** The answer of a call; throws a `Problem` where it is none. */
export async function answer<T>(call: Answered<T>): Promise<T> {
  let result: Awaited<Answered<T>>;
  try {
    result = await call;
  } catch {
    throw new Problem(0, "The service does not answer.", "unreachable", "It is asked again in a moment.");
  }
  if (result.response.ok) return result.data as T;
  const told = (typeof result.error === "object" && result.error ? result.error : {}) as Record<string, string>;
  const words = told.detail ?? `The service answered ${result.response.status}.`;
  throw new Problem(result.response.status, words, told.code, told.advice, told.request_id);
}

/** All items of a list of the service, page after page: for lists that are short, or that are shown whole. */
export async function whole<Item>(ask: (cursor?: string) => Promise<{ items: Item[]; next?: string | null }>) {
  const items: Item[] = [];
  let cursor: string | undefined;
  do {
    const page = await ask(cursor);
    items.push(...page.items);
    cursor = page.next ?? undefined;
  } while (cursor);
  return items;
}

/** For a change that is meant for what was seen: refused where somebody else has changed it since. */
export const since = (revision: string) => ({ "if-match": `"${revision}"` });
/** For something new: refused where there is one of that name already. */
export const fresh = { "if-none-match": "*" };

/** A key under which a creating request has one effect, however often it is sent. */
export const onceKey = () => ({ "Idempotency-Key": crypto.randomUUID() });
