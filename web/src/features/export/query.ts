import type { operations } from "../../api/contract.gen";

export type Query = NonNullable<operations["export-rows"]["parameters"]["query"]>;
export type Which = NonNullable<Query["decision"]>;
export const which: Which[] = ["keep", "hold", "drop", "all"];

/** Spreadsheets of a locale with decimal commas want semicolons between cells. */
const semicolons = (1.5).toLocaleString().includes(",");

/** queryOf reads from the page's address what is to be taken out; the service checks it. */
export function queryOf(search: URLSearchParams): Query {
  const text = <K extends keyof Query>(name: K): Pick<Query, K> | object =>
    search.get(name) ? { [name]: search.get(name) } : {};
  const numeral = (name: keyof Query) => (Number(search.get(name)) > 0 ? { [name]: Number(search.get(name)) } : {});
  return {
    ...text("decision"),
    ...text("form"),
    ...text("format"),
    ...text("policy"),
    ...text("apart"),
    ...text("finding"),
    ...text("cause"),
    ...text("stage"),
    ...text("trait"),
    ...text("domain"),
    ...text("operator"),
    ...text("search"),
    ...numeral("oddsFrom"),
    ...numeral("oddsBelow"),
    ...numeral("after"),
    ...numeral("rowsEach"),
    ...numeral("every"),
    ...numeral("sample"),
    ...(search.get("columns") ? { columns: search.get("columns")!.split(",") } : {}),
    ...(search.get("ordinals") ? { ordinals: search.get("ordinals")!.split(",").map(Number) } : {}),
    ...(search.get("format") === "spreadsheet" && semicolons ? { semicolons } : {}),
    ...(search.get("guard") === "true" ? { guard: true } : {}),
  };
}
