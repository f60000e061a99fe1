import { Select, type SelectProps } from "antd";

/** Choice is a choice among some with its label; name is said to those who cannot see, where the label is too long. */
export function Choice<Value>({
  label,
  name = label,
  ...props
}: SelectProps<Value> & { label: string; name?: string }) {
  return (
    <label>
      {label}
      <Select<Value> aria-label={name} {...props} />
    </label>
  );
}
