import { InputNumber } from "antd";
import { Choice } from "../../parts/Choice";
import type { StepPart } from "./steps";

/** Places are which rows of a slice are taken by their place. */
export function Places({ step: s, set }: Omit<StepPart, "columns">) {
  const one = (name: "from" | "to" | "last" | "every" | "sample", label: string) => (
    <label className="workshop-place">
      {label}
      <InputNumber
        aria-label={label}
        min={1}
        controls={false}
        value={s[name] ?? null}
        onChange={(v) =>
          set({ [name]: v ?? undefined, ...(name === "sample" && { seed: v ? (s.seed ?? 1) : undefined }) })
        }
      />
    </label>
  );
  return (
    <div className="workshop-places">
      {one("from", "from row")}
      {one("to", "to row")}
      {one("last", "the last")}
      {one("every", "one in every")}
      {one("sample", "by chance")}
      {s.sample && (
        <Choice
          label="draw"
          name="Seed"
          value={s.seed ?? 1}
          options={[1, 2, 3, 4, 5].map((v) => ({ value: v, label: `no. ${v}` }))}
          onChange={(seed) => set({ seed })}
        />
      )}
    </div>
  );
}
