import { Select } from "antd";
import type { Schema } from "../../api/client";
import { Act } from "../../parts/Act";
import type { StepPart } from "./steps";

/** Otherwise are columns of the other lists that the first list calls otherwise. */
export function Otherwise({ step: s, columns, set }: StepPart) {
  const all = s.aliases ?? [];
  const change = (at: number, a: Schema<"WorkshopAlias"> | undefined) => {
    const next = a ? all.with(at, a) : all.filter((_, i) => i !== at);
    set({ aliases: next.length > 0 ? next : undefined });
  };
  const one = (label: string, value: string, onChange: (c: string) => void) => (
    <Select
      aria-label={label}
      className="workshop-columns"
      showSearch
      value={value || null}
      placeholder="a column"
      options={columns.map((c) => ({ value: c, label: c }))}
      onChange={(c) => onChange(c ?? "")}
    />
  );
  return (
    <div className="workshop-part">
      <ul className="workshop-conditions">
        {all.map((a, i) => (
          <li key={`${i} ${a.column}`} className="workshop-line">
            {one("A column of the other lists", a.column, (column) => change(i, { ...a, column }))}
            <span>of the others is</span>
            {one("The column of the first", a.as, (as) => change(i, { ...a, as }))}
            <Act of={`columns ${i + 1}`} onClick={() => change(i, undefined)}>
              Remove
            </Act>
          </li>
        ))}
      </ul>
      <button type="button" className="plain" onClick={() => set({ aliases: [...all, { column: "", as: "" }] })}>
        Match columns with different names
      </button>
    </div>
  );
}
