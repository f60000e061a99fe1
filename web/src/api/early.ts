const base = "/api/v1";

/** answers are those asked for before the client was there, by what was asked; arrived holds their bodies, once there. */
const answers = new Map<string, Promise<Response>>();
const arrived = new Map<string, unknown>();

/** keptFor is for how many milliseconds an answer is taken for a fresh one. */
const keptFor = 2000;

const questionOf = (path: string, body?: object) =>
  new URL(base + path, location.origin).href + (body ? JSON.stringify(body) : "");

/** ask asks the API for something that the page which begins is about to read; with a body by POST. */
export function ask(path: string, body?: object): Promise<Response> {
  const answer = fetch(
    base + path,
    body ? { method: "POST", body: JSON.stringify(body), headers: { "Content-Type": "application/json" } } : {},
  );
  const question = questionOf(path, body);
  answers.set(question, answer);
  answer
    .then(async (a) => {
      const told = a.ok ? await a.clone().json() : undefined;
      if (told !== undefined && answers.has(question)) arrived.set(question, told);
    })
    .catch(() => {}); // who reads it is told
  setTimeout(() => forget(question), keptFor);
  return answer;
}

/**
 * atOnce gives a query the answer that was asked for early, if it has arrived, so that the page is drawn with it the first
 * time. It is given once: later queries ask the service.
 */
export const atOnce = <T>(path: string, body?: object) => ({
  initialData: () => {
    const question = questionOf(path, body);
    const answer = arrived.get(question) as T | undefined;
    if (answer !== undefined) forget(question);
    return answer;
  },
});

function forget(question: string) {
  answers.delete(question);
  arrived.delete(question);
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
  forget(question);
  // What failed is asked for again, as if nothing had been.
  return answer?.catch(() => fetch(request)) ?? fetch(request);
}
