import type { Schema } from "../../api/client";

type Step = Schema<"WriteBackStep">;

/** inWords says in a few words what a step does. */
export function inWords(s: Step): string {
  switch (s.act) {
    case "field":
      return `${s.of} in the field “${s.name}”`;
    case "tag":
      return `tag “${s.name}”`;
    case "collection":
      return `collection “${s.name}”`;
    case "suppress":
      return "suppression list";
    case "disable":
      return "delivery stopped";
    case "remove":
      return "taken out";
    case "file":
      return `file “${s.name}”`;
  }
}
