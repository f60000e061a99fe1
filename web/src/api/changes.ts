import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { keys } from "./hooks";
import { type Change, stream } from "./stream";

/** restEvery is how often, in milliseconds, pages of many things are read again at the most while a run goes on. */
const restEvery = 2000;

/** watch tells what changes in the workspace, by the stream that all tabs share, until it is left. */
function watch(tell: (change: Change) => void): () => void {
  if (typeof SharedWorker === "undefined") return stream(tell);
  const worker = new SharedWorker(new URL("./changes.worker.ts", import.meta.url), { type: "module" });
  worker.port.onmessage = (e: MessageEvent<Change>) => tell(e.data);
  return () => {
    worker.port.postMessage("leave");
    worker.port.close();
  };
}

/** useChanges keeps what is shown up to date. */
export function useChanges(watched: boolean) {
  const client = useQueryClient();
  useEffect(() => {
    if (!watched) return;
    const reader = new Reader(client);
    const begin = () => watch((change) => reader.changed(change));
    let leave = begin();
    // A page that is only put aside by the browser must hold no stream open.
    const hidden = () => leave();
    const shown = (e: PageTransitionEvent) => {
      if (e.persisted) leave = begin();
    };
    addEventListener("pagehide", hidden);
    addEventListener("pageshow", shown);
    return () => {
      removeEventListener("pagehide", hidden);
      removeEventListener("pageshow", shown);
      leave();
      reader.end();
    };
  }, [client, watched]);
}

/** Reader reads again what has changed: one thing at once, pages of many after a rest. */
class Reader {
  private waiting = new Map<string, ReturnType<typeof setTimeout>>();
  private reading = new Map<string, { again: boolean }>();

  constructor(private client: QueryClient) {}

  changed(change: Change) {
    const id = change.id ?? 0;
    switch (change.kind) {
      case "everything":
        // Of a page that was opened since, nothing has changed that it shows.
        if ((change.quietMs ?? 0) < performance.now()) void this.read([]);
        return;
      case "event":
        void this.read(keys.notices);
        for (const key of [["deliveries"], ["allowance"], ["purchases"]]) this.later(key);
        return;
      case "routine":
        void this.read(["routine", id]);
        void this.read(["routine-times", id]);
        this.later(["routines"]);
        return;
      case "connection":
        void this.read(["connection", id]);
        this.later(["connections"]);
        return;
      case "import":
        this.later(["imports"]);
        this.later(["collections"]);
        return;
      case "write-back":
        void this.read(["write-back", id]);
        this.later(["write-backs"]);
        return;
      case "mailing":
        void this.read(["mailing", id]);
        for (const key of [["mailings"], ["outcomes"], ["odds"], ["letters-of", id]]) this.later(key);
        return;
      case "list":
        void this.read(keys.list(id));
        void this.read(["runs", id]);
        this.later(keys.lists);
        return;
      case "run":
        void this.read(keys.run(id));
        for (const key of [
          keys.lists,
          ["list"],
          ["runs"],
          ["results", id],
          ["matching", id],
          ["places", id],
          ["evidence", id],
          ["allowance"],
        ])
          this.later(key);
    }
  }

  /** read reads again; what changes meanwhile is read once more, for the answer on its way may not hold it yet. */
  private async read(key: readonly unknown[]) {
    const name = JSON.stringify(key);
    const under = this.reading.get(name);
    if (under) {
      under.again = true;
      return;
    }
    const now = { again: true };
    this.reading.set(name, now);
    while (now.again) {
      now.again = false;
      await this.client.invalidateQueries({ queryKey: key });
    }
    this.reading.delete(name);
  }

  private later(key: readonly unknown[]) {
    const name = JSON.stringify(key);
    if (this.waiting.has(name)) return;
    const read = () => {
      this.waiting.delete(name);
      void this.read(key);
    };
    this.waiting.set(name, setTimeout(read, restEvery));
  }

  end() {
    for (const timer of this.waiting.values()) clearTimeout(timer);
  }
}
