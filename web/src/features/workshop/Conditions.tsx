import { Checkbox, Input, Select } from "antd";
import { useWords } from "../../api/hooks";
import { Act } from "../../parts/Act";
import { findings } from "../../words";
import { Places } from "./Places";
import { type Condition, facts, type StepPart, tests } from "./steps";

/** Conditions are rows of conditions, and which rows are taken of those that meet them. */
export function Conditions({ step: s, columns, set }: StepPart) {
  const all = s.conditions ?? [];
  const change = (at: number, c: Condition | undefined) =>
    set({ conditions: c ? all.with(at, c) : all.filter((_, i) => i !== at) });
  return (
    <div className="workshop-part">
      <ul className="workshop-conditions">
        {all.map((c, i) => (
          <li key={i} className="workshop-line">
            {i > 0 && (
              <Select
                aria-label="Whether all or one must be met"
                value={s.any ?? false}
                options={[
                  { value: false, label: "and" },
                  { value: true, label: "or" },
                ]}
                onChange={(any) => set({ any: any || undefined })}
              />
            )}
            <One condition={c} columns={columns} onChange={(n) => change(i, n)} />
            <Act of={`condition ${i + 1}`} onClick={() => change(i, undefined)}>
              Remove
            </Act>
          </li>
        ))}
      </ul>
      <button
        type="button"
        className="plain"
        onClick={() => set({ conditions: [...all, { column: "", test: "is", values: [] }] })}
      >
        {all.length > 0 ? "One more condition" : "A condition"}
      </button>
      <Places step={s} set={set} />
    </div>
  );
}

function One({
  condition: c,
  columns,
  onChange,
}: {
  condition: Condition;
  columns: string[];
  onChange: (c: Condition) => void;
}) {
  const options = [
    { label: "Columns", options: columns.map((n) => ({ value: `c ${n}`, label: n })) },
    { label: "The address", options: facts.map((f) => ({ value: `f ${f.value}`, label: f.label })) },
  ];
  const chosen = c.fact ? `f ${c.fact}` : c.column ? `c ${c.column}` : null;
  return (
    <>
      <Select
        aria-label="What is looked at"
        className="workshop-columns"
        value={chosen}
        placeholder="a column, or a fact"
        showSearch
        optionFilterProp="label"
        options={options}
        onChange={(v) =>
          v?.startsWith("f ")
            ? onChange({ fact: v.slice(2) as Condition["fact"], test: c.test, values: [], not: c.not })
            : onChange({ column: v?.slice(2) ?? "", test: c.test, values: c.values, not: c.not })
        }
      />
      <Select
        aria-label="What it is held against"
        value={c.test}
        options={tests.map((t) => ({ value: t.value, label: t.label }))}
        popupMatchSelectWidth={false}
        onChange={(test) => onChange({ ...c, test, values: [] })}
      />
      <Values condition={c} onChange={(values) => onChange({ ...c, values })} />
      <Checkbox checked={c.not ?? false} onChange={(e) => onChange({ ...c, not: e.target.checked || undefined })}>
        not
      </Checkbox>
    </>
  );
}

/** useKnownValues are the values that a fact can have. */
function useKnownValues(fact: Condition["fact"]): { value: string; label: string }[] {
  const words = useWords();
  if (fact === "finding") return findings.map((f) => ({ value: f, label: f }));
  if (fact === "decision") return ["keep", "hold", "drop"].map((d) => ({ value: d, label: d }));
  if (fact === "trait") return words.data?.traits.map((t) => ({ value: t.code, label: t.title })) ?? [];
  if (fact === "cause") return words.data?.causes.map((t) => ({ value: t.code, label: t.title })) ?? [];
  return [];
}

function Values({ condition: c, onChange }: { condition: Condition; onChange: (v: string[]) => void }) {
  const known = useKnownValues(c.fact);
  const asks = tests.find((t) => t.value === c.test)?.asks;
  const values = c.values ?? [];
  if (asks === "texts")
    return (
      <Select
        aria-label="Values"
        mode="tags"
        className="workshop-values"
        value={values}
        placeholder="values"
        options={known}
        onChange={onChange}
      />
    );
  if (asks === "text")
    return (
      <Input
        aria-label="Value"
        className="workshop-value"
        value={values[0] ?? ""}
        onChange={(e) => onChange([e.target.value])}
      />
    );
  if (asks === "two" || asks === "days") {
    const one = (at: number, label: string) => (
      <Input
        aria-label={label}
        className="workshop-value"
        type={asks === "days" ? "date" : "text"}
        value={values[at] ?? ""}
        onChange={(e) => onChange(at === 0 ? [e.target.value, values[1] ?? ""] : [values[0] ?? "", e.target.value])}
      />
    );
    return (
      <>
        {one(0, "From")}
        <span>and</span>
        {one(1, "To")}
      </>
    );
  }
  return null;
}
