import type { Schema } from "../../api/client";

export type Kind = Schema<"CatalogueEntry">["kind"];

/** kinds are the catalogues, to choose from. */
export const kinds: { value: Kind; label: string }[] = [
  { value: "disposable", label: "disposable domains" },
  { value: "role", label: "role names" },
  { value: "no-reply", label: "no-reply names" },
  { value: "free-mail", label: "free-mail domains" },
  { value: "trap-domain", label: "trap domains" },
  { value: "trap-name", label: "trap names" },
  { value: "trap-typo-domain", label: "mistyped domains that are traps" },
];
