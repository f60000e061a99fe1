import { Checkbox, Input, Select } from "antd";
import type { Schema } from "../../api/client";
import { useWords } from "../../api/hooks";
import { Field } from "../../parts/Field";
import { acts } from "./queries";

export type Step = Schema<"WriteBackStep">;

/** findings and decisions are what a step may be for, and a field be set to. */
const findings = ["deliverable", "catch-all", "undecided", "undeliverable"] as const;
const decisions = ["keep", "hold", "drop"] as const;

const who = [
  { value: "", label: "everybody with a result" },
  ...decisions.map((d) => ({ value: `d ${d}`, label: `those to ${d}` })),
  ...findings.map((f) => ({ value: `f ${f}`, label: `those who are ${f}` })),
];

/** usualStep is a step of an act before anything of it is chosen. */
export function usualStep(act: string): Step {
  switch (act) {
    case "field":
      return { act, name: "mail state", of: "finding" };
    case "collection":
      return { act, name: "", decisions: ["keep"] };
    case "file":
      return { act, name: "{name}-{date}", decisions: ["keep"] };
    case "tag":
      return { act, name: "undeliverable", findings: ["undeliverable"] };
  }
  return { act: act as Step["act"], decisions: ["drop"] };
}

/** StepForm has a person say what is done to whom in a step. */
export function StepForm({
  value: s,
  takes,
  onChange,
  onRemove,
}: {
  value: Step;
  takes: string[];
  onChange: (s: Step) => void;
  onRemove?: () => void;
}) {
  const set = (part: Partial<Step>) => onChange({ ...s, ...part });
  const chosen = s.decisions?.length ? `d ${s.decisions[0]}` : s.findings?.length ? `f ${s.findings[0]}` : "";
  return (
    <fieldset className="step">
      <legend className="unseen">A step</legend>
      <div className="pair">
        <Field label="For">
          <Select
            value={chosen}
            options={s.act === "file" ? who.filter((w) => !w.value.startsWith("f ")) : who}
            onChange={(w) =>
              set({
                decisions: w.startsWith("d ") ? [w.slice(2)] : undefined,
                findings: w.startsWith("f ") ? [w.slice(2)] : undefined,
              })
            }
          />
        </Field>
        <Field label="Do">
          <Select
            value={s.act}
            options={takes.map((t) => ({ value: t, label: acts[t as Step["act"]] }))}
            onChange={(act) => onChange(usualStep(act))}
          />
        </Field>
      </div>
      {["field", "tag", "collection", "file"].includes(s.act) && (
        <div className="pair">
          <Field label={names[s.act] ?? "Name"}>
            <Input
              value={s.name}
              maxLength={200}
              placeholder={s.act === "collection" ? "Spring, deliverable" : undefined}
              onChange={(e) => set({ name: e.target.value })}
            />
          </Field>
          {s.act === "field" && (
            <Field label="is set to">
              <Select
                value={s.of}
                options={["finding", "cause", "decision"].map((v) => ({ value: v, label: `the ${v}` }))}
                onChange={(of) => set({ of, values: undefined })}
              />
            </Field>
          )}
        </div>
      )}
      {s.act === "collection" && (
        <p>
          <Checkbox checked={s.refresh ?? false} onChange={(e) => set({ refresh: e.target.checked || undefined })}>
            Update the collection of that name
          </Checkbox>
        </p>
      )}
      {s.act === "field" && <Values value={s} set={set} />}
      {onRemove && (
        <button type="button" className="plain" onClick={onRemove}>
          Leave this step out
        </button>
      )}
    </fieldset>
  );
}

const names: Partial<Record<Step["act"], string>> = {
  field: "Field",
  tag: "Tag",
  collection: "Name of the collection",
  file: "File name",
};

/** Values lets a person write the findings, causes or decisions in words of their own. */
function Values({ value: s, set }: { value: Step; set: (part: Partial<Step>) => void }) {
  const words = useWords();
  const all =
    s.of === "finding"
      ? [...findings]
      : s.of === "decision"
        ? [...decisions]
        : (words.data?.causes.map((c) => c.code as string) ?? []);
  const change = (v: string, text: string) => {
    const { [v]: _, ...others } = s.values ?? {};
    set({ values: text === "" ? others : { ...others, [v]: text } });
  };
  return (
    <details>
      <summary>In words of your own</summary>
      <div className="values">
        {all.map((v) => (
          <Field key={v} label={`instead of ${v}`}>
            <Input value={s.values?.[v] ?? ""} placeholder={v} onChange={(e) => change(v, e.target.value)} />
          </Field>
        ))}
      </div>
    </details>
  );
}
