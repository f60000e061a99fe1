import { Input, InputNumber, Select } from "antd";
import { useState } from "react";
import type { PolicyRule } from "../../api/client";
import { useWords } from "../../api/hooks";
import { Act } from "../../parts/Act";
import { findings, number } from "../../words";
import { useTermLists } from "../workshop/queries";
import { hows } from "../workshop/steps";
import { decisions } from "./decisions";

interface Props {
  rule: PolicyRule;
  says: string;
  rows: number | undefined;
  onChange: (r: PolicyRule) => void;
  onRemove: () => void;
  onUp: (() => void) | undefined;
}

/** RuleRow is a rule: what it does, on which rows, how many it decides on. */
export function RuleRow({ rule, says, rows, onChange, onRemove, onUp }: Props) {
  const [open, setOpen] = useState(Object.keys(rule).length < 2);
  return (
    <li>
      <div className="rule-row">
        <Select
          aria-label="What is done"
          size="small"
          value={rule.do}
          onChange={(d) => onChange({ ...rule, do: d })}
          options={decisions}
        />
        <button type="button" className="plain rule-says" aria-expanded={open} onClick={() => setOpen(!open)}>
          {says || "…"}
        </button>
        <span className="rule-count">{rows === undefined ? "" : number(rows) + (rows === 1 ? " row" : " rows")}</span>
        {onUp ? (
          <Act of={says} onClick={onUp}>
            Up
          </Act>
        ) : (
          <span />
        )}
        <Act of={says} onClick={onRemove}>
          Remove
        </Act>
      </div>
      {open && <Conditions rule={rule} onChange={onChange} />}
    </li>
  );
}

/** Conditions are what a row must fit, all of what is filled in. */
function Conditions({ rule, onChange }: { rule: PolicyRule; onChange: (r: PolicyRule) => void }) {
  const words = useWords();
  const terms = useTermLists();
  const set = <K extends keyof PolicyRule>(name: K, value: PolicyRule[K] | null | undefined) => {
    const next = { ...rule };
    if (
      value === undefined ||
      value === null ||
      value === "" ||
      value === 0 ||
      (Array.isArray(value) && value.length === 0)
    )
      delete next[name];
    else next[name] = value as PolicyRule[K];
    onChange(next);
  };
  const many = <K extends "findings" | "causes" | "traits" | "opinions">(
    name: K,
    label: string,
    options: { value: NonNullable<PolicyRule[K]>[number]; label: string }[],
  ) => (
    <label>
      {label}
      <Select<PolicyRule[K]>
        aria-label={label}
        mode="multiple"
        allowClear
        value={rule[name]}
        onChange={(v) => set(name, v)}
        options={options}
        optionFilterProp="label"
        placeholder="any"
      />
    </label>
  );
  const names = (name: "domains" | "operators" | "values", label: string) => (
    <label>
      {label}
      <Select
        aria-label={label}
        mode="tags"
        tokenSeparators={[",", " "].slice(0, name === "values" ? 1 : 2)}
        value={rule[name] ?? []}
        onChange={(v) => set(name, v)}
        open={false}
        suffixIcon={null}
        placeholder="any; * for any text"
      />
    </label>
  );
  const odds = (name: "oddsFrom" | "oddsBelow", label: string) => (
    <label>
      {label}
      <InputNumber
        aria-label={label}
        min={0}
        max={100}
        value={rule[name] === undefined ? null : Math.round(rule[name] * 100)}
        onChange={(v) => set(name, v === null ? undefined : v / 100)}
        suffix="in 100"
      />
    </label>
  );
  const days = (name: "activeWithin" | "inactiveFor", label: string) => (
    <label>
      {label}
      <InputNumber
        aria-label={label}
        min={0}
        max={3650}
        value={rule[name] ?? null}
        onChange={(v) => set(name, v)}
        suffix="days"
      />
    </label>
  );
  return (
    <div className="conditions">
      {many(
        "findings",
        "Finding is",
        findings.map((f) => ({ value: f, label: f })),
      )}
      {many(
        "traits",
        "Has the trait",
        (words.data?.traits ?? []).map((t) => ({ value: t.code, label: t.title })),
      )}
      {many(
        "causes",
        "Cause is",
        (words.data?.causes ?? []).map((c) => ({ value: c.code, label: c.title })),
      )}
      {odds("oddsFrom", "Odds from")}
      {odds("oddsBelow", "Odds under")}
      {names("domains", "At the domain")}
      {names("operators", "Run by the operator")}
      <label>
        In the column
        <Input
          aria-label="In the column"
          value={rule.column ?? ""}
          onChange={(e) => set("column", e.target.value)}
          placeholder="its name"
        />
      </label>
      {names("values", "stands")}
      {(terms.data?.length ?? 0) > 0 && (
        <label>
          Holds one of the saved terms
          <Select
            aria-label="Holds one of the saved terms"
            mode="multiple"
            value={rule.termLists ?? []}
            onChange={(v) => set("termLists", v)}
            options={terms.data?.map((t) => ({ value: t.name, label: t.name })) ?? []}
            placeholder="any"
          />
        </label>
      )}
      {rule.termLists && (
        <label>
          as
          <Select
            aria-label="How a term must stand"
            value={rule.how ?? "cell"}
            onChange={(v) => set("how", v)}
            options={hows}
          />
        </label>
      )}
      <label>
        Checked more than
        <InputNumber
          aria-label="Checked more than"
          min={0}
          max={3650}
          value={rule.olderThan ?? null}
          onChange={(v) => set("olderThan", v)}
          suffix="days ago"
        />
      </label>
      {days("activeWithin", "Active within the last")}
      {days("inactiveFor", "Not seen active for")}
      <label>
        The check of
        <Input
          aria-label="The check of"
          value={rule.opinionOf ?? ""}
          onChange={(e) => set("opinionOf", e.target.value)}
          placeholder="another check"
        />
      </label>
      {many(
        "opinions",
        "found",
        findings.map((f) => ({ value: f, label: f })),
      )}
    </div>
  );
}
