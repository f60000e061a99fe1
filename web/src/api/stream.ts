import type { Schema } from "./client";

export type Change = Schema<"WorkspaceChange">;

/** stream tells what changes in the workspace, by its event stream, until it is closed. */
export function stream(tell: (change: Change) => void): () => void {
  const events = new EventSource("/api/v1/events");
  let lost = false;
  events.addEventListener("change", (e: MessageEvent<string>) => tell(JSON.parse(e.data) as Change));
  events.addEventListener("error", () => {
    lost = true;
  });
  events.addEventListener("open", () => {
    if (lost) tell({ kind: "everything" });
    lost = false;
  });
  return () => events.close();
}
