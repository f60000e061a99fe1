import { Select } from "antd";

/** Columns are some columns of the list. */
export function Columns({
  label,
  value,
  columns,
  placeholder = "a column",
  onChange,
}: {
  label: string;
  value: string[] | undefined;
  columns: string[];
  placeholder?: string;
  onChange: (c: string[]) => void;
}) {
  return (
    <Select
      aria-label={label}
      mode="tags"
      className="workshop-columns"
      value={value ?? []}
      placeholder={placeholder}
      options={columns.map((c) => ({ value: c, label: c }))}
      onChange={onChange}
    />
  );
}
