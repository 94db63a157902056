import { acting, answer, http, onceKey, Problem } from "./client";

/** The SHA-256 of a file, or of a piece of one, which is read into memory. */
export async function sha256(data: Blob): Promise<Uint8Array> {
  return new Uint8Array(await crypto.subtle.digest("SHA-256", await data.arrayBuffer()));
}

/** Send a file in parts; returns the upload's id.  What was sent of the same file before, noted under a name in this
 * browser, is not sent again. */
export async function sendFile(
  file: File,
  region: string,
  kept: string,
  tell: (done: number) => void,
): Promise<string> {
  const mark = `${file.name} ${file.size} ${file.lastModified}`;
  const begun = JSON.parse(localStorage.getItem(kept) ?? "null") as { mark: string; id: string } | null;
  let upload = null;
  if (begun?.mark === mark) {
    upload = await answer(http.GET("/api/v1/uploads/{upload}", { params: { path: { upload: begun.id } } })).catch(
      () => null,
    );
  }
  upload ??= await answer(
    http.POST("/api/v1/uploads", { body: { name: file.name, size: file.size, region }, params: { header: onceKey() } }),
  );
  localStorage.setItem(kept, JSON.stringify({ mark, id: upload.id }));
  const there = new Set(upload.parts);
  const parts = Math.max(1, Math.ceil(file.size / upload.part_bytes));
  for (let part = 0; part < parts; part++) {
    if (!there.has(part)) {
      const body = file.slice(part * upload.part_bytes, (part + 1) * upload.part_bytes);
      const told = `sha-256=:${btoa(String.fromCharCode(...(await sha256(body))))}:`; // RFC 9530
      const headers = {
        "Content-Digest": told,
        "X-CSRF-Token": acting.csrf,
        "Bathotype-Account": acting.account,
        "Content-Type": "application/octet-stream",
      };
      const sent = await fetch(`/api/v1/uploads/${upload.id}/parts/${part}`, { method: "PUT", body, headers });
      if (!sent.ok) {
        const wrong = (await sent.json().catch(() => ({}))) as Record<string, string>;
        throw new Problem(
          sent.status,
          wrong.detail ?? `The service answered ${sent.status}.`,
          wrong.code,
          wrong.advice,
          wrong.request_id,
        );
      }
    }
    tell(Math.min(file.size, (part + 1) * upload.part_bytes));
  }
  return upload.id;
}
