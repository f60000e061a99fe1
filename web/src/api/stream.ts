import type { Schema } from "./client";

/** Change is what has changed; quietMs is for how many milliseconds nothing had before everything may have. */
export type Change = Schema<"WorkspaceChange"> & { quietMs?: number };

/**
 * stream tells what changes in the workspace, by its event stream, until it is closed. What was read before it opened may
 * have changed meanwhile, so that everything may have changed each time that it opens, but for the time before it in which
 * nothing had.
 */
export function stream(tell: (change: Change) => void): () => void {
  const events = new EventSource("/api/v1/events");
  events.addEventListener("change", (e: MessageEvent<string>) => tell(JSON.parse(e.data) as Change));
  let opened = false;
  events.addEventListener("open", () => {
    opened = true;
  });
  events.addEventListener("beat", (e: MessageEvent<string>) => {
    if (opened) tell({ kind: "everything", quietMs: (JSON.parse(e.data) as Schema<"Beat">).quietMs });
    opened = false;
  });
  return () => events.close();
}
