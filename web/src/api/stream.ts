import type { Schema } from "./client";

export type Change = Schema<"WorkspaceChange">;

/**
 * stream tells what changes in the workspace, by its event stream, until it is closed. What was read before it opened may
 * have changed meanwhile, so that everything may have changed each time that it opens.
 */
export function stream(tell: (change: Change) => void): () => void {
  const events = new EventSource("/api/v1/events");
  events.addEventListener("change", (e: MessageEvent<string>) => tell(JSON.parse(e.data) as Change));
  events.addEventListener("open", () => tell({ kind: "everything" }));
  return () => events.close();
}
