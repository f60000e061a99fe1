import { stream } from "./stream";

/*
 * All tabs share this worker and its one event stream: a browser opens six connections to a
 * host at the most, and a stream each would leave the seventh tab waiting.
 */
const ports = new Set<MessagePort>();
let close: (() => void) | undefined;

function leave(port: MessagePort) {
  ports.delete(port);
  if (ports.size > 0) return;
  close?.();
  close = undefined;
}

addEventListener("connect", (e) => {
  const port = (e as MessageEvent).ports[0]!;
  ports.add(port);
  port.onmessage = () => leave(port);
  if (close) port.postMessage({ kind: "everything" }); // what changed since the page read it was told to others
  close ??= stream((change) => {
    for (const p of ports) p.postMessage(change);
  });
});
