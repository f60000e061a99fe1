import { Select } from "antd";
import { type Kind, kinds } from "./kinds";

/** KindChoice is the choice of a catalogue. */
export function KindChoice({ name, value, onChange }: { name: string; value: Kind; onChange: (k: Kind) => void }) {
  return <Select aria-label={name} value={value} onChange={onChange} options={kinds} popupMatchSelectWidth={false} />;
}
