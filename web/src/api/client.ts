import createClient from "openapi-fetch";
import type { components, paths } from "./contract.gen";
import { early } from "./early";

type Schemas = components["schemas"];
/** Schema is a type of the contract by its name. */
export type Schema<K extends keyof Schemas> = Schemas[K];
export type Run = Schemas["Run"];
export type List = Schemas["List"];
export type Result = Schemas["Result"];
export type Evidence = Schemas["Evidence"];
export type Preview = Schemas["Preview"];
export type CauseCount = Schemas["CauseCount"];
export type ExportPreview = Schemas["ExportPreview"];
export type KnownPolicy = Schemas["KnownPolicy"];
export type Policy = Schemas["Policy"];
export type PolicyRule = Schemas["PolicyRule"];
export type Decision = Result["decision"];
export type Finding = Result["finding"];

export const api = createClient<paths>({
  baseUrl: "/api/v1",
  fetch: early,
  querySerializer: { array: { style: "form", explode: false } },
});

/** Problem is an error the service told in a sentence. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    /** kind is the end of the problem's type, by which programs tell problems apart. */
    readonly kind = "",
  ) {
    super(detail);
  }
}

type Told = {
  type?: string;
  detail?: string;
  title?: string;
  errors?: { message?: string; location?: string }[] | null;
};

/** told returns the data of an answer, or throws its problem. */
export function told<T>(answer: { data?: T; error?: unknown; response: Response }): T {
  if (answer.error !== undefined || !answer.response.ok) {
    throw problemOf(answer.response.status, answer.error as Told | undefined);
  }
  return answer.data as T;
}

/** items gives what is on the page that an operation answers with. */
export const items = <T>(answer: { data?: { items: T[] }; error?: unknown; response: Response }): T[] =>
  told(answer).items;

function problemOf(status: number, body: Told | undefined): Problem {
  const sentence = body?.detail ?? body?.title ?? "The service does not answer. Try again in a moment.";
  const details = (body?.errors ?? [])
    .map((e) => e.message)
    .filter((m) => m && !sentence.includes(m))
    .join("; ");
  return new Problem(status, details ? `${sentence} (${details})` : sentence, body?.type?.split("#")[1]);
}

/**
 * events reads an event stream that a POST answers with: EventSource can send no body, and
 * addresses do not belong in URLs.
 */
export async function events<E extends { event: string; data: unknown }>(
  path: string,
  body: unknown,
  seen: (event: E) => void,
  signal: AbortSignal,
): Promise<void> {
  const response = await fetch(`/api/v1${path}`, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
    signal,
  });
  if (!response.ok || !response.body)
    throw problemOf(response.status, (await response.json().catch(() => undefined)) as Told | undefined);
  const reader = response.body.pipeThrough(new TextDecoderStream()).getReader();
  for (let text = ""; ; ) {
    const { value, done } = await reader.read();
    if (done) return;
    const parts = (text + value).split("\n\n");
    text = parts.pop()!;
    for (const part of parts) {
      const fields = Object.fromEntries(
        part.split("\n").map((l) => [l.slice(0, l.indexOf(":")), l.slice(l.indexOf(":") + 1).trim()]),
      );
      if (fields.data) seen({ event: fields.event, data: JSON.parse(fields.data) } as E);
    }
  }
}

/** send posts a file as it is; openapi-fetch would read it into memory. */
export async function send<T>(path: string, file: Blob): Promise<T> {
  const response = await fetch(`/api/v1${path}`, {
    method: "POST",
    headers: { "Content-Type": "application/octet-stream" },
    body: file,
  }).catch(() => {
    throw new Problem(0, "The service does not answer. Try again in a moment; nothing was imported.");
  });
  const body = await response.json().catch(() => undefined);
  if (!response.ok) throw problemOf(response.status, body as Told | undefined);
  return body as T;
}
