import type { Schema } from "../../api/client";

export type Step = Schema<"WorkshopStep">;
export type Condition = Schema<"WorkshopCondition">;
export type Change = Schema<"WorkshopChange">;
export type Split = Schema<"WorkshopSplit">;

/** StepPart is what a part of a step works on. */
export interface StepPart {
  step: Step;
  columns: string[];
  set: (part: Partial<Step>) => void;
}

/** Made is what the page makes, as it stands in its address. */
export interface Made {
  listId: number;
  steps: Step[];
  split?: Split;
}

/** dos are what a step does, as the sentence reads on from the list before it. */
export const dos: { value: Step["do"]; label: string }[] = [
  { value: "without", label: "without" },
  { value: "merge", label: "merged with" },
  { value: "both", label: "also in" },
  { value: "only", label: "in only one of it and" },
  { value: "slice", label: "where" },
  { value: "strike", label: "struck by terms" },
  { value: "duplicates", label: "reduced to its duplicates" },
  { value: "one", label: "reduced to one row" },
  { value: "tidy", label: "tidied" },
];

/** withOthers are the steps that take other lists. */
export const withOthers: Step["do"][] = ["without", "merge", "both", "only"];

/** compares are the steps for which rows are compared. */
export const compares: Step["do"][] = [...withOthers, "duplicates", "one"];

export const bys: { value: NonNullable<Step["by"]>; label: string }[] = [
  { value: "address", label: "address" },
  { value: "mailbox", label: "same mailbox" },
  { value: "domain", label: "domain" },
  { value: "loose", label: "text, whatever case and spaces" },
  { value: "exact", label: "exact text" },
  { value: "digits", label: "digits, as of telephones" },
];

export const keeps: { value: NonNullable<Step["keep"]>; label: string }[] = [
  { value: "first", label: "first row" },
  { value: "filled", label: "first row, empty ones filled from the others" },
  { value: "newest", label: "newest row" },
];

export const hows: { value: NonNullable<Step["how"]>; label: string }[] = [
  { value: "cell", label: "as the whole cell" },
  { value: "word", label: "as a word" },
  { value: "part", label: "anywhere in a cell" },
  { value: "domain", label: "as a domain, or one under it" },
  { value: "number", label: "as a number, by its digits" },
];

export const facts: { value: NonNullable<Condition["fact"]>; label: string }[] = [
  { value: "domain", label: "the domain" },
  { value: "trait", label: "a trait of the address" },
  { value: "operator", label: "the operator" },
  { value: "finding", label: "the finding" },
  { value: "cause", label: "the cause" },
  { value: "decision", label: "the decision" },
  { value: "checked", label: "the last check" },
  { value: "active", label: "the last activity" },
];

/** tests are what a cell is held against; texts, numbers and days are written beside. */
export const tests: { value: Condition["test"]; label: string; asks: string }[] = [
  { value: "is", label: "is one of", asks: "texts" },
  { value: "contains", label: "contains one of", asks: "texts" },
  { value: "begins", label: "begins with one of", asks: "texts" },
  { value: "empty", label: "is empty", asks: "" },
  { value: "pattern", label: "matches the pattern", asks: "text" },
  { value: "between", label: "is a number between", asks: "two" },
  { value: "dates", label: "is a day between", asks: "days" },
  { value: "last", label: "is within the last … days", asks: "text" },
  { value: "month", label: "is in the months (1 to 12)", asks: "texts" },
];

/** changes are what tidying does, and which of its fields each takes. */
export const changes: { value: Change["do"]; label: string; takes: (keyof Change)[] }[] = [
  { value: "trim", label: "trim spaces in", takes: ["columns"] },
  { value: "salutation", label: "salutation case in", takes: ["columns"] },
  { value: "upper", label: "capital letters in", takes: ["columns"] },
  { value: "lower", label: "small letters in", takes: ["columns"] },
  { value: "replace", label: "replace a text in", takes: ["columns", "find", "with"] },
  { value: "local-part", label: "new column: local part of the address", takes: ["to"] },
  { value: "domain", label: "new column: domain of the address", takes: ["to"] },
  { value: "first-name", label: "new column: first name from", takes: ["columns", "to"] },
  { value: "last-name", label: "new column: last name from", takes: ["columns", "to"] },
  { value: "country", label: "new column: country of the IP address in", takes: ["columns", "to"] },
  { value: "split", label: "split", takes: ["columns", "find", "to", "rest"] },
  { value: "join", label: "join", takes: ["columns", "with", "to"] },
  { value: "rename", label: "rename", takes: ["columns", "to"] },
  { value: "order", label: "put first", takes: ["columns"] },
  { value: "drop", label: "drop", takes: ["columns"] },
];

/** usualStep is a step before anything of it is chosen. */
export function usualStep(what: Step["do"]): Step {
  if (what === "slice") return { do: what, conditions: [{ column: "", test: "is", values: [] }] };
  if (what === "strike") return { do: what, terms: [], how: "word" };
  if (what === "tidy") return { do: what, changes: [{ do: "trim", columns: [] }] };
  if (withOthers.includes(what)) return { do: what, with: [] };
  return { do: what };
}

/** whole reports whether all of a step is said, so that it can be tried. */
export function whole(s: Step): boolean {
  if (withOthers.includes(s.do)) {
    const matched = (s.aliases ?? []).every((a) => a.column && a.as);
    return (s.with?.length ?? 0) > 0 && matched && !(s.keep === "newest" && !s.newest);
  }
  if (s.do === "strike") return (s.terms?.length ?? 0) + (s.termLists?.length ?? 0) > 0;
  if (s.do === "tidy") return (s.changes?.length ?? 0) > 0;
  if (s.do === "slice") {
    const placed = s.from || s.to || s.last || s.every || s.sample;
    const said = (s.conditions ?? []).every(
      (c) => (c.column || c.fact) && (c.test === "empty" || (c.values ?? []).some((v) => v !== "")),
    );
    return said && Boolean(placed || s.conditions?.length);
  }
  return true;
}

/**
 * read reads what is made from the page's address. It stands behind the #, which is not sent anywhere: terms and values
 * may be addresses and names.
 */
export function read({ hash, search }: { hash: string; search: string }): Made {
  try {
    const made = JSON.parse(new URLSearchParams(hash.slice(1)).get("make") ?? "") as Made;
    if (typeof made.listId === "number" && Array.isArray(made.steps)) return made;
  } catch {
    // none, or one that was cut: the page begins anew
  }
  return { listId: Number(new URLSearchParams(search).get("list") ?? 0), steps: [] };
}

/** hashOf is the part of the page's address behind the # with something to make. */
export const hashOf = (made: Made) => `#${new URLSearchParams({ make: JSON.stringify(made) })}`;
