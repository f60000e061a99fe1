import { Checkbox, InputNumber } from "antd";
import type { ExportPreview, KnownPolicy } from "../../api/client";
import { Choice } from "../../parts/Choice";
import { plural } from "../../words";
import type { Query } from "./query";

type Form = NonNullable<Query["form"]>;
type Format = NonNullable<Query["format"]>;
type Change = (values: Record<string, string | undefined>) => void;

const forms: { value: Form; label: string }[] = [
  { value: "rows", label: "the rows as they were imported" },
  { value: "results", label: "the rows, with result columns" },
  { value: "addresses", label: "just the addresses" },
  { value: "suppression", label: "each address with the reason" },
];
const formats: { value: Format; label: string }[] = [
  { value: "original", label: "the file as it was" },
  { value: "spreadsheet", label: "CSV that opens in columns in a spreadsheet" },
  { value: "xlsx", label: "XLSX workbook" },
  { value: "ods", label: "OpenDocument spreadsheet" },
  { value: "jsonl", label: "JSON Lines" },
  { value: "txt", label: "text, one address per line" },
];
const files = [
  { value: "", label: "one file" },
  { value: "decision", label: "one for each decision, in a zip" },
  { value: "finding", label: "one for each finding, in a zip" },
];

interface Props {
  query: Query;
  policy: string;
  policies: KnownPolicy[];
  out: ExportPreview;
  change: Change;
}

/** Choices settles what goes into the file, in which form and format. */
export function Choices({ query, policy, policies, out, change }: Props) {
  const form = query.form ?? "rows";
  return (
    <>
      <div className="settle">
        <Choice
          label="What"
          value={form}
          onChange={(f) => change({ form: f })}
          options={forms}
          popupMatchSelectWidth={false}
        />
        <Choice
          label="As"
          value={query.format ?? "original"}
          onChange={(f) => change({ format: f })}
          options={formats}
          popupMatchSelectWidth={false}
        />
        <Choice
          label="Decided by the policy"
          name="Policy"
          value={policy}
          onChange={(p) => change({ policy: p })}
          options={policies.map((p) => ({ value: p.name, label: p.name }))}
        />
      </div>
      {form === "results" && <Columns query={query} out={out} change={change} />}
      {out.formulas > 0 && (query.format ?? "original") !== "xlsx" && (
        <p>
          <Checkbox
            checked={query.guard ?? false}
            onChange={(e) => change({ guard: e.target.checked ? "true" : undefined })}
          >
            {plural(out.formulas, "row")} of the list {out.formulas === 1 ? "has" : "have"} a cell of your own that a
            spreadsheet would run as a formula: make such cells harmless
          </Checkbox>
        </p>
      )}
      <More query={query} change={change} />
    </>
  );
}

function Columns({ query, out, change }: { query: Query; out: ExportPreview; change: Change }) {
  const chosen = query.columns ?? out.columns.filter((c) => c.usual).map((c) => c.name);
  return (
    <Checkbox.Group
      aria-label="Result columns"
      className="columns"
      options={out.columns.map((c) => ({ value: c.name, label: c.title }))}
      value={chosen}
      onChange={(c) =>
        change({
          columns: out.columns
            .filter((x) => c.includes(x.name))
            .map((x) => x.name)
            .join(","),
        })
      }
    />
  );
}

/** More is what is seldom wanted: several files, a part of the rows, another place for the result columns. */
function More({ query, change }: { query: Query; change: Change }) {
  const numeral = (name: "rowsEach" | "sample" | "every" | "after", label: string, none: string) => (
    <label>
      {label}
      <InputNumber
        aria-label={label}
        min={0}
        value={query[name] ?? null}
        placeholder={none}
        onChange={(v) => change({ [name]: v ? String(v) : undefined })}
      />
    </label>
  );
  const used = query.apart ?? query.rowsEach ?? query.sample ?? query.every ?? query.after;
  return (
    <details className="paste" open={used !== undefined}>
      <summary>Several files, or a part of the rows</summary>
      <div className="settle">
        <Choice
          label="Files"
          value={query.apart ?? ""}
          onChange={(a) => change({ apart: a || undefined, ...(a ? { decision: "all" } : {}) })}
          options={files}
          popupMatchSelectWidth={false}
        />
        {numeral("rowsEach", "Most rows per file", "no limit")}
        {numeral("sample", "A random sample of", "all rows")}
        {numeral("every", "One row of each", "1")}
        {query.form === "results" && numeral("after", "Result columns after column", "the address column")}
      </div>
    </details>
  );
}
