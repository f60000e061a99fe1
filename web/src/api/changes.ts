import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type { Schema } from "./client";
import { keys } from "./hooks";

type Change = Schema<"WorkspaceChange">;

/** restEvery is how often, in milliseconds, pages of many things are read again at the most while a run goes on. */
const restEvery = 2000;

/** useChanges keeps what is shown up to date, by the one event stream of the workspace. */
export function useChanges(watched: boolean) {
  const client = useQueryClient();
  useEffect(() => {
    if (!watched) return;
    const reader = new Reader(client);
    const events = new EventSource("/api/v1/events");
    let lost = false;
    events.addEventListener("change", (e: MessageEvent<string>) => reader.changed(JSON.parse(e.data) as Change));
    events.addEventListener("error", () => {
      lost = true;
    });
    events.addEventListener("open", () => {
      if (lost) reader.changed({ kind: "everything" });
      lost = false;
    });
    return () => {
      events.close();
      reader.end();
    };
  }, [client, watched]);
}

/** Reader reads again what has changed: one thing at once, pages of many after a rest. */
class Reader {
  private waiting = new Map<string, ReturnType<typeof setTimeout>>();

  constructor(private client: QueryClient) {}

  changed(change: Change) {
    const id = change.id ?? 0;
    switch (change.kind) {
      case "everything":
        return this.read([]);
      case "list":
        this.read(keys.list(id));
        this.read(["runs", id]);
        return this.later(keys.lists);
      case "run":
        this.read(keys.run(id));
        for (const key of [keys.lists, ["list"], ["runs"], ["results", id], ["matching", id], ["places", id], ["evidence", id]]) this.later(key);
    }
  }

  private read(key: readonly unknown[]) {
    void this.client.invalidateQueries({ queryKey: key }, { cancelRefetch: false });
  }

  private later(key: readonly unknown[]) {
    const name = JSON.stringify(key);
    if (this.waiting.has(name)) return;
    const read = () => {
      this.waiting.delete(name);
      this.read(key);
    };
    this.waiting.set(name, setTimeout(read, restEvery));
  }

  end() {
    for (const timer of this.waiting.values()) clearTimeout(timer);
  }
}
