import type { Schema } from "../../api/client";

export type Counts = Schema<"MailingCounts">;

/** The outcomes in the order in which they are drawn, with their words. */
export const outcomes: { key: keyof Counts; what: string }[] = [
  { key: "noBounce", what: "did not come back" },
  { key: "open", what: "still watched" },
  { key: "delayed", what: "delayed" },
  { key: "passing", what: "bounced, may pass" },
  { key: "bounced", what: "bounced for good" },
  { key: "complained", what: "complained" },
];

export const lettersOf = (c: Counts) => outcomes.reduce((n, o) => n + c[o.key], 0);
