// The calls of a program that uses a client generated from the contract: SERVER and KEY are
// its arguments. It fails at the first answer that is not as the contract says.
import { client } from "./api/client.gen";
import * as api from "./api";

const [server, key] = process.argv.slice(2) as [string, string];
client.setConfig({ baseUrl: `${server}/api/v1`, auth: key });

/** need stops at a call that was answered otherwise. */
function need<T>(what: string, answer: { data?: T; error?: unknown; response?: Response }): T {
  if (answer.error !== undefined || answer.data === undefined) throw new Error(`${what}: ${JSON.stringify(answer.error)}, status ${answer.response?.status}`);
  console.log("ok", what);
  return answer.data;
}

const pause = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

async function calls() {
  need("get-session", await api.getSession());
  const file = new Blob(["name,e-mail\nAda Moss,ada.moss@fernhollow.example\nNobody,nobody.atall@fernhollow.example\nTwo,ada@@fernhollow.example\n"]);
  const once = { body: file, query: { fileName: "generated.csv" }, headers: { "Idempotency-Key": "generated-ts" } };
  const list = need("import-list", await api.importList(once));
  if (need("import-list, the same once more", await api.importList(once)).id !== list.id) throw new Error("imported twice");
  const path = { id: list.id };
  need("draft-run", await api.draftRun({ path, body: {} }));
  let run = need("start-run", await api.startRun({ path, body: {} }));
  for (let n = 0; !run.finishedAt; n++) {
    if (n > 300) throw new Error(`the run does not end: ${run.sentence}`);
    await pause(200);
    run = need("get-run", await api.getRun({ path: { id: run.id } }));
  }
  const found: api.Result[] = [];
  for (let cursor: string | undefined; ; ) {
    const page = need("get-results", await api.getResults({ path: { id: run.id }, query: { limit: 1, cursor } }));
    found.push(...page.items);
    cursor = page.next;
    if (!cursor) break;
  }
  if (found.length !== 3 || !found.some((r) => r.finding === "undeliverable")) throw new Error(`${found.length} results`);
  need("get-evidence", await api.getEvidence({ path: { id: run.id, ordinal: found[0]!.ordinal } }));
  const exported = need("export-rows", await api.exportRows({ path: { id: run.id }, parseAs: "text" }));
  if (!String(exported).startsWith("name,e-mail\n")) throw new Error(`exported: ${exported}`);
  need("check-addresses", await api.checkAddresses({ body: { addresses: ["ada.moss@fernhollow.example"] } }));
  const wrong = await api.checkAddresses({ body: { addresses: [] } });
  if (wrong.error?.status !== 422) throw new Error("an empty check is taken");
  const events = await api.watchRun({ path: { id: run.id } });
  for await (const event of events.stream) console.log("ok watch-run", typeof event);
  await api.deleteList({ path });
  if ((await api.getList({ path })).error?.status !== 404) throw new Error("the list is there still");
}

calls().catch((error: unknown) => {
  console.error(error);
  process.exit(1);
});
