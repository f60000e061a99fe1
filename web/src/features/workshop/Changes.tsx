import { Input, Select } from "antd";
import { Act } from "../../parts/Act";
import { Columns } from "./Columns";
import { type Change, changes, type StepPart } from "./steps";

/** Changes are the changes of cells and columns, one after the other. */
export function Changes({ step: s, columns, set }: StepPart) {
  const all = s.changes ?? [];
  const change = (at: number, c: Change | undefined) =>
    set({ changes: c ? all.with(at, c) : all.filter((_, i) => i !== at) });
  return (
    <div className="workshop-part">
      <ol className="workshop-conditions">
        {all.map((c, i) => (
          <li key={i} className="workshop-line">
            <One change={c} columns={columns} onChange={(n) => change(i, n)} />
            <Act of={`change ${i + 1}`} onClick={() => change(i, undefined)}>
              Remove
            </Act>
          </li>
        ))}
      </ol>
      <button type="button" className="plain" onClick={() => set({ changes: [...all, { do: "trim", columns: [] }] })}>
        One more change
      </button>
    </div>
  );
}

/** asked are the fields of a change, with what stands before each. */
const asked: [keyof Change & ("find" | "with" | "to" | "rest"), (what: Change["do"]) => string][] = [
  ["find", (what) => (what === "split" ? "at" : "the text")],
  ["with", (what) => (what === "join" ? "with" : "by")],
  ["to", (what) => (what === "rename" ? "to" : what === "split" ? "into" : "called")],
  ["rest", () => "and"],
];

function One({ change: c, columns, onChange }: { change: Change; columns: string[]; onChange: (c: Change) => void }) {
  const takes = changes.find((k) => k.value === c.do)?.takes ?? [];
  return (
    <>
      <Select
        aria-label="What is changed"
        value={c.do}
        options={changes.map((k) => ({ value: k.value, label: k.label }))}
        popupMatchSelectWidth={false}
        onChange={(what) => onChange({ do: what, columns: c.columns })}
      />
      {takes.includes("columns") && (
        <Columns
          label="Columns"
          value={c.columns}
          columns={columns}
          placeholder={["trim", "upper", "lower", "salutation", "replace"].includes(c.do) ? "all columns" : "a column"}
          onChange={(columns) => onChange({ ...c, columns })}
        />
      )}
      {asked.map(
        ([name, says]) =>
          takes.includes(name) && (
            <label key={name} className="workshop-place">
              {says(c.do)}
              <Input
                aria-label={says(c.do)}
                className="workshop-value"
                value={c[name] ?? ""}
                maxLength={500}
                onChange={(e) => onChange({ ...c, [name]: e.target.value || undefined })}
              />
            </label>
          ),
      )}
    </>
  );
}
