import { Select } from "antd";
import { useKinds } from "../notices/queries";

/** Events chooses the kinds of events that a webhook is told of: those of a workspace it can. */
export function Events({ value, onChange }: { value: string[]; onChange: (codes: string[]) => void }) {
  const kinds = useKinds();
  return (
    <Select
      aria-label="Events that it receives"
      mode="multiple"
      value={value}
      onChange={onChange}
      options={(kinds.data ?? [])
        .filter((k) => k.letter && (k.for === "everybody" || k.for === "managers"))
        .map((k) => ({ value: k.code, label: `${k.code}: ${k.title}` }))}
      optionLabelProp="value"
      placeholder="the events that it receives"
      popupMatchSelectWidth={false}
      style={{ minWidth: 280 }}
    />
  );
}
