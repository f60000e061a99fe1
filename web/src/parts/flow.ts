import type { CauseCount, Finding, Run } from "../api/client";

/** Band is what leaves the stream at one stage with one finding. */
export type Band = { stage: string; finding: Finding; addresses: number; causes: CauseCount[] };

export const stages = ["syntax", "domain", "exchanger", "mailbox"] as const;

/** What reaches the end of the flow; every other finding leaves on the way. */
const arrives = (f: Finding) => f === "deliverable" || f === "catch-all";

/** leaving gives what leaves at a stage, undeliverable first. A rule counts where it stopped the address: before the exchanger. */
export function leaving(run: Run, stage: string): Band[] {
  const here = run.causes.filter((c) => (c.stage === "rule" ? "exchanger" : c.stage) === stage && !arrives(c.finding));
  return (["undeliverable", "undecided"] as Finding[])
    .map((finding) => bandOf(stage, finding, here.filter((c) => c.finding === finding)))
    .filter((b) => b.addresses > 0);
}

/** arriving gives what reaches the end. */
export function arriving(run: Run): Band[] {
  return (["deliverable", "catch-all"] as Finding[]).map((finding) =>
    bandOf("end", finding, run.causes.filter((c) => c.finding === finding)));
}

function bandOf(stage: string, finding: Finding, causes: CauseCount[]): Band {
  const sorted = [...causes].sort((a, b) => b.addresses - a.addresses);
  return { stage, finding, causes: sorted, addresses: sorted.reduce((sum, c) => sum + c.addresses, 0) };
}
