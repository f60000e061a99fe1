export type Order = "newest" | "name" | "largest";
const orders: { value: Order; label: string }[] = [
  { value: "newest", label: "newest first" },
  { value: "name", label: "by name" },
  { value: "largest", label: "largest first" },
];

/** Find narrows many lists down, and puts them in order. Its fields are the browser's own: the first page stays small. */
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
      <input
        className="native"
        id="search"
        type="search"
        aria-label="Part of a name"
        placeholder="part of a name  ( / )"
        value={text}
        onChange={(e) => onText(e.target.value)}
      />
      <select className="native" aria-label="Order" value={order} onChange={(e) => onOrder(e.target.value as Order)}>
        {orders.map((o) => (
          <option key={o.value} value={o.value}>
            {o.label}
          </option>
        ))}
      </select>
    </div>
  );
}
