import { Input, Select } from "antd";

export type Order = "newest" | "name" | "largest";
const orders: { value: Order; label: string }[] = [
  { value: "newest", label: "newest first" },
  { value: "name", label: "by name" },
  { value: "largest", label: "largest first" },
];

/** Find narrows many lists down, and puts them in order. */
export function Find({
  text,
  onText,
  order,
  onOrder,
}: {
  text: string;
  onText: (text: string) => void;
  order: Order;
  onOrder: (order: Order) => void;
}) {
  return (
    <div className="add">
      <Input
        id="search"
        type="search"
        aria-label="Part of a name"
        placeholder="part of a name  ( / )"
        value={text}
        onChange={(e) => onText(e.target.value)}
      />
      <Select aria-label="Order" value={order} onChange={onOrder} options={orders} />
    </div>
  );
}
