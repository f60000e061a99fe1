import type { operations } from "../../api/contract.gen";

export type Filter = NonNullable<operations["describe-filter"]["parameters"]["query"]>;
const texts = ["finding", "cause", "stage", "trait", "domain", "operator", "decision", "search"] as const;

/** filterOf reads from the page's address which results are wanted; the service checks it. */
export function filterOf(search: URLSearchParams): Filter {
  const odds = (name: string) => (Number(search.get(name)) > 0 ? { [name]: Number(search.get(name)) } : {});
  return {
    ...Object.fromEntries(texts.flatMap((n) => (search.get(n) ? [[n, search.get(n)!]] : []))),
    ...odds("oddsFrom"),
    ...odds("oddsBelow"),
    ...(search.get("overridden") === "true" ? { overridden: true } : {}),
  };
}
