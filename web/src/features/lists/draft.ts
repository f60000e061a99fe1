import type { List, Schema } from "../../api/client";

/** reuseAtFirst is how old results a run of a list takes over, in days, until somebody chooses. */
export const reuseAtFirst = (list: List) => (list.earlierId || list.madeOf || list.lastRun ? 30 : 0);

/** draftOf is the run that is asked what it will take. */
export const draftOf = (depth: Schema<"NewRun">["depth"], reuseDays: number, urgent: boolean): Schema<"NewRun"> => ({
  depth,
  reuseDays,
  policy: "careful",
  ...(urgent && { urgent }),
});
