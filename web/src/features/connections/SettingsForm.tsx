import { Input, Select } from "antd";
import type { ReactElement } from "react";
import type { Schema } from "../../api/client";
import { Field } from "../../parts/Field";

type Settings = Record<string, string>;

/** usualOf are the settings of a kind before anything is entered. */
export function usualOf(kind: Schema<"ConnectionKind">): Settings {
  return Object.fromEntries(kind.fields.filter((f) => f.default).map((f) => [f.name, f.default ?? ""]));
}

/** SettingsForm has a person enter the settings of a connection. Secrets that are kept are not shown. */
export function SettingsForm({
  kind,
  value,
  kept = [],
  onChange,
}: {
  kind: Schema<"ConnectionKind">;
  value: Settings;
  kept?: string[];
  onChange: (s: Settings) => void;
}) {
  return kind.fields
    .filter((f) => !f.given)
    .map((f) => (
      <Field key={f.name} label={f.required || f.default ? f.title : `${f.title} (optional)`} help={f.help}>
        {control(f, value[f.name] ?? "", kept.includes(f.name), (v) => onChange({ ...value, [f.name]: v }))}
      </Field>
    ));
}

function control(f: Schema<"ConnectionField">, value: string, kept: boolean, set: (v: string) => void): ReactElement {
  const placeholder = kept ? "kept; enter another to replace it" : f.example;
  if (f.choices) {
    return (
      <Select value={value || undefined} onChange={set} options={f.choices.map((c) => ({ value: c, label: c }))} />
    );
  }
  if (f.long) {
    return (
      <Input.TextArea
        className="code"
        spellCheck={false}
        autoSize={{ minRows: 4, maxRows: 16 }}
        value={value}
        placeholder={placeholder}
        onChange={(e) => set(e.target.value)}
      />
    );
  }
  if (f.secret) {
    return (
      <Input
        type="password"
        autoComplete="off"
        value={value}
        placeholder={placeholder}
        onChange={(e) => set(e.target.value)}
      />
    );
  }
  return <Input value={value} placeholder={placeholder} onChange={(e) => set(e.target.value)} />;
}
