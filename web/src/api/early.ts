const base = "/api/v1";

/** answers are those that were asked for before the client was there, by what was asked. */
const answers = new Map<string, Promise<Response>>();

/** keptFor is for how many milliseconds an answer is taken for a fresh one. */
const keptFor = 2000;

/** ask asks the API for something that the page which begins is about to read. */
export function ask(path: string) {
  const url = new URL(base + path, location.origin).href;
  answers.set(url, fetch(url));
  setTimeout(() => answers.delete(url), keptFor);
}

/** early does what fetch does, and takes the answer to what was asked before, once. */
export function early(request: Request): Promise<Response> {
  const answer = request.method === "GET" ? answers.get(request.url) : undefined;
  answers.delete(request.url);
  // What failed is asked for again, as if nothing had been.
  return answer?.catch(() => fetch(request)) ?? fetch(request);
}
