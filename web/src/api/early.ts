const base = "/api/v1";

/** answers are those that were asked for before the client was there, by what was asked. */
const answers = new Map<string, Promise<Response>>();

/** keptFor is for how many milliseconds an answer is taken for a fresh one. */
const keptFor = 2000;

/** ask asks the API for something that the page which begins is about to read; with a body by POST. */
export function ask(path: string, body?: object): Promise<Response> {
  const url = new URL(base + path, location.origin).href;
  const sent = body && JSON.stringify(body);
  const answer = fetch(
    url,
    sent ? { method: "POST", body: sent, headers: { "Content-Type": "application/json" } } : {},
  );
  const question = sent ? url + sent : url;
  answers.set(question, answer);
  setTimeout(() => answers.delete(question), keptFor);
  return answer;
}

/** read is what an answer holds; the answer itself is still there for the page. */
export async function read<T>(answer: Promise<Response>): Promise<T> {
  return (await answer).clone().json();
}

/** early does what fetch does, and takes the answer to what was asked before, once. */
export async function early(request: Request): Promise<Response> {
  if (answers.size === 0) return fetch(request);
  const question = request.method === "POST" ? request.url + (await request.clone().text()) : request.url;
  const answer = request.method === "GET" || request.method === "POST" ? answers.get(question) : undefined;
  answers.delete(question);
  // What failed is asked for again, as if nothing had been.
  return answer?.catch(() => fetch(request)) ?? fetch(request);
}
