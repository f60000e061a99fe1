import { api, Problem, send, told } from "./client";

/** From this size on a file is sent part by part, so that a bad line costs a part and not the file. */
const inParts = 8 * 1024 * 1024;
const part = 4 * 1024 * 1024;
const tries = 6;

/** importFile sends a file and brings it in once: a list's own path, and what is said of the file. */
export async function importFile<T>(
  path: string,
  query: URLSearchParams,
  file: File,
  sent: (bytes: number) => void,
): Promise<T> {
  if (file.size <= inParts) return send<T>(`${path}?${query}`, file);
  const key = keyOf(file);
  await upload(key, file, sent);
  query.set("key", key);
  const list = await send<T>(`${path}?${query}`, new Blob());
  sessionStorage.removeItem(nameOf(file));
  return list;
}

const nameOf = (file: File) => `upload ${file.name} ${file.size} ${file.lastModified}`;

/** keyOf is the same for the same file while the page's session lasts: a reload goes on where it stopped. */
function keyOf(file: File): string {
  const known = sessionStorage.getItem(nameOf(file)) ?? crypto.randomUUID();
  sessionStorage.setItem(nameOf(file), known);
  return known;
}

async function upload(key: string, file: File, sent: (bytes: number) => void) {
  for (let failed = 0; ; ) {
    try {
      const params = { path: { key } };
      let received = told(await api.PUT("/uploads/{key}", { params, body: { size: file.size } })).received;
      while (received < file.size) {
        sent(received);
        const response = await fetch(`/api/v1/uploads/${key}?from=${received}`, {
          method: "PATCH",
          headers: { "Content-Type": "application/octet-stream" },
          body: file.slice(received, received + part),
        });
        if (!response.ok) throw new Problem(response.status, "A part was lost on its way.");
        received = ((await response.json()) as { received: number }).received;
        failed = 0;
      }
      return;
    } catch (error) {
      const lost = !(error instanceof Problem) || error.status === 0 || error.status >= 500 || error.status === 409;
      if (!lost || ++failed > tries)
        throw error instanceof Problem
          ? error
          : new Problem(0, "The service does not answer. What was sent is kept; choose the file again to go on.");
      await new Promise((wake) => setTimeout(wake, failed * 1000));
    }
  }
}
