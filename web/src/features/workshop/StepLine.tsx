import { Checkbox, Select } from "antd";
import type { List } from "../../api/client";
import { Act } from "../../parts/Act";
import { Changes } from "./Changes";
import { Columns } from "./Columns";
import { Conditions } from "./Conditions";
import { Otherwise } from "./Otherwise";
import { bys, compares, dos, keeps, type Step, type StepPart, usualStep, withOthers } from "./steps";
import { Terms } from "./Terms";

interface Props {
  step: Step;
  first: boolean;
  lists: List[];
  columns: string[];
  onChange: (s: Step) => void;
  onRemove: () => void;
}

/** StepLine is a step, as a part of the sentence that is being built. */
export function StepLine({ step: s, first, lists, columns, onChange, onRemove }: Props) {
  const set = (part: Partial<Step>) => onChange({ ...s, ...part });
  return (
    <>
      <div className="workshop-line">
        {!first && <span>then</span>}
        <Select
          aria-label="What is done"
          value={s.do}
          options={dos}
          popupMatchSelectWidth={false}
          onChange={(what) => onChange(usualStep(what))}
        />
        {withOthers.includes(s.do) && (
          <Select
            aria-label="Other lists"
            mode="multiple"
            className="workshop-others"
            value={s.with ?? []}
            placeholder="another list"
            optionFilterProp="label"
            options={lists.map((l) => ({ value: String(l.id), label: l.name }))}
            onChange={(w) => set({ with: w })}
          />
        )}
        {compares.includes(s.do) && <Compared step={s} columns={columns} set={set} />}
        {s.do === "merge" && <Kept step={s} columns={columns} set={set} />}
        {s.do === "strike" && <Terms step={s} columns={columns} set={set} />}
        <Act of={dos.find((d) => d.value === s.do)?.label ?? ""} onClick={onRemove}>
          Remove
        </Act>
      </div>
      {(s.do === "merge" || s.do === "only") && <Otherwise step={s} columns={columns} set={set} />}
      {s.do === "slice" && <Conditions step={s} columns={columns} set={set} />}
      {s.do === "tidy" && <Changes step={s} columns={columns} set={set} />}
    </>
  );
}

/** Compared is by what rows are the same. */
function Compared({ step: s, columns, set }: StepPart) {
  const ofAddress = ["address", "mailbox", "domain"].includes(s.by ?? "address");
  return (
    <>
      <span>by</span>
      <Select
        aria-label="By what rows are the same"
        value={s.by ?? "address"}
        options={bys}
        popupMatchSelectWidth={false}
        onChange={(by) => set({ by, columns: undefined, together: undefined })}
      />
      {!ofAddress && (
        <>
          <span>of</span>
          <Columns
            label="Columns that are compared"
            value={s.columns}
            columns={columns}
            onChange={(c) => set({ columns: c })}
          />
          {(s.columns?.length ?? 0) > 1 && (
            <Checkbox checked={s.together ?? false} onChange={(e) => set({ together: e.target.checked || undefined })}>
              together, as a household
            </Checkbox>
          )}
        </>
      )}
    </>
  );
}

/** Kept is whose cells stand where several rows are the same. */
function Kept({ step: s, columns, set }: StepPart) {
  return (
    <>
      <span>, keep the cells of the</span>
      <Select
        aria-label="Whose cells are kept"
        value={s.keep ?? "first"}
        options={keeps}
        popupMatchSelectWidth={false}
        onChange={(keep) => set({ keep, newest: undefined })}
      />
      {s.keep === "newest" && (
        <>
          <span>by</span>
          <Select
            aria-label="The column with the date"
            value={s.newest ?? null}
            placeholder="a column with dates"
            options={columns.map((c) => ({ value: c, label: c }))}
            popupMatchSelectWidth={false}
            onChange={(newest) => set({ newest: newest ?? undefined })}
          />
        </>
      )}
    </>
  );
}
