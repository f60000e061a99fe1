import { useQuery } from "@tanstack/react-query";
import { Button, Checkbox, Segmented, Select } from "antd";
import { Link, useParams, useSearchParams } from "react-router";
import { api, told, type Decision } from "../api/client";
import { useRun } from "../api/hooks";
import type { operations } from "../api/contract.gen";
import { DecisionMark } from "../parts/DecisionMark";
import { Sentence, Trouble, Wait } from "../parts/Notice";
import { glyphs, number, plural } from "../words";

type Query = NonNullable<operations["file"]["parameters"]["query"]>;
type Which = NonNullable<Query["decision"]>;
type Form = NonNullable<Query["form"]>;
type Format = NonNullable<Query["format"]>;

const which: Which[] = ["keep", "hold", "drop", "all"];
const forms: { value: Form; label: string; says: string }[] = [
  { value: "rows", label: "the rows as they were brought", says: "The same columns, in the same order and in the same writing as the file you brought; only the other rows are missing." },
  { value: "results", label: "with result columns", says: "The result columns stand right after the address column; all others stay as they were." },
  { value: "addresses", label: "just the addresses", says: "One address a line, and nothing else." },
  { value: "suppression", label: "address and reason", says: "What a sending tool takes as a suppression list: each address with the reason." },
];
const formats: { value: Format; label: string }[] = [
  { value: "brought", label: "as the file was" }, { value: "spreadsheet", label: "CSV for a spreadsheet: opens in columns at once" },
  { value: "xlsx", label: "XLSX workbook" }, { value: "jsonl", label: "JSON Lines" },
];
/** Spreadsheets of a locale with decimal commas want semicolons between cells. */
const semicolons = (1.5).toLocaleString().includes(",");

export function TakeOutPage() {
  const id = Number(useParams().id);
  const run = useRun(id);
  const [search, setSearch] = useSearchParams();
  const change = (name: string, value: string) => setSearch((old) => { const next = new URLSearchParams(old); next.set(name, value); return next; }, { replace: true });
  const decision = which.find((d) => d === search.get("decision")) ?? "keep";
  const form = forms.find((f) => f.value === search.get("form")) ?? forms[0]!;
  const format = formats.find((f) => f.value === search.get("format"))?.value ?? "brought";
  const chosen = search.get("columns") ? search.get("columns")!.split(",") : undefined; // none: the usual ones
  const policy = search.get("policy") ?? run.data?.policy ?? "careful";
  const policies = useQuery({ queryKey: ["policies"], queryFn: async () => told(await api.GET("/policies")), staleTime: Infinity });
  const by = policies.data?.find((p) => p.name === policy);
  const guard = search.get("guard") === "true";
  const query: Query = { decision, form: form.value, format, policy, ...(chosen && { columns: chosen }), semicolons: format === "spreadsheet" && semicolons, guard };
  const out = useQuery({
    queryKey: ["take-out", id, decision, policy, form.value, format, run.data?.done],
    queryFn: async () => told(await api.GET("/runs/{id}/take-out", { params: { path: { id }, query } })),
  });
  const error = run.error ?? out.error;
  if (error) return <Trouble error={error} again={() => void out.refetch()} />;
  if (!run.data || !out.data) return <Wait for="the counts" />;
  const file = `/api/v1/runs/${id}/file?${new URLSearchParams({ decision, form: form.value, format, policy, ...(chosen && { columns: chosen.join(",") }), semicolons: String(query.semicolons), guard: String(guard) })}`;
  return (
    <>
      <p className="path"><Link to="/lists">Lists</Link> → <Link to={`/lists/${run.data.listId}`}><bdi>{run.data.listName}</bdi></Link> → <Link to={`/runs/${id}`}>Run {id}</Link> →</p>
      <h1>Take out</h1>
      <Segmented aria-label="Which rows" value={decision} onChange={(d) => change("decision", d)}
        options={which.map((d) => ({ value: d, label: d === "all" ? "all rows" : `${glyphs[d]} ${d}` }))} />
      <Sentence>{out.data.sentence}</Sentence>
      {run.data.open > 0 && <p>The run is not at its end: {plural(run.data.open, "address is", "addresses are")} not concluded yet and count as held.</p>}
      <div className="settle">
        <label>Decided by the policy<Select aria-label="Policy" value={policy} onChange={(p) => change("policy", p)} options={(policies.data ?? []).map((p) => ({ value: p.name, label: p.name }))} /></label>
        <label>What<Select aria-label="What" value={form.value} onChange={(f) => change("form", f)} options={forms} popupMatchSelectWidth={false} /></label>
        <label>As<Select aria-label="As" value={format} onChange={(f) => change("format", f)} options={formats} popupMatchSelectWidth={false} /></label>
        <Button type="primary" size="large" href={file} download={out.data.fileName} disabled={out.data.rows === 0}>Write {plural(out.data.rows, "row")} to a file</Button>
      </div>
      {by && <details><summary>{by.for} Changing the policy asks nobody again.</summary><ol>{by.says.map((s) => <li key={s}>{s}</li>)}</ol></details>}
      <p>{form.says} The file will be called <bdi>{out.data.fileName}</bdi>.</p>
      {form.value === "results" && <Checkbox.Group aria-label="Result columns" options={out.data.columns.map((c) => ({ value: c.name, label: c.title }))} value={chosen ?? out.data.columns.filter((c) => c.usual).map((c) => c.name)} onChange={(c) => change("columns", out.data.columns.filter((x) => c.includes(x.name)).map((x) => x.name).join(","))} />}
      {format === "spreadsheet" && <p><Checkbox checked={guard} onChange={(e) => change("guard", String(e.target.checked))}>Make cells of my own harmless that a spreadsheet would run as formulas</Checkbox></p>}
      <h2>All {number(run.data.rows)} rows</h2>
      <table className="rows narrow">
        <thead><tr><th>Decision</th><th>Because they are</th><th className="number">Rows</th></tr></thead>
        <tbody>{out.data.counts.map((c) => <tr key={c.decision + c.reason}><td><DecisionMark decision={c.decision as Decision} /></td><td>{c.reason}</td><td className="number">{number(c.rows)}</td></tr>)}</tbody>
      </table>
    </>
  );
}
