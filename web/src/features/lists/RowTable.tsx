import { type UIEvent, useLayoutEffect, useRef, useState } from "react";
import type { List } from "../../api/client";
import { AddressText } from "../../parts/AddressText";
import { Trouble } from "../../parts/Notice";
import { number } from "../../words";
import { type Order, useRows } from "./useRows";

/** A row is so high, in pixels; cells that need more are cut, and whole on hover. */
const height = 32;
/** Browsers lay out no element higher than this, in pixels: beyond it places are to scale. */
const highest = 8_000_000;
/** So many rows are drawn beyond the edges. */
const beyond = 10;

/** Table is a list's rows in a window that is scrolled over them: only what is seen is fetched and drawn. */
export function Table({
  list,
  columns,
  order,
  onOrder,
}: {
  list: List;
  columns: number[];
  order: Order;
  onOrder: (o: Order) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [top, setTop] = useState(0);
  const [seen, setSeen] = useState(20);
  useLayoutEffect(
    () =>
      setSeen(
        Math.floor(
          ((box.current?.clientHeight ?? 640) - (box.current?.querySelector("thead")?.clientHeight ?? height)) / height,
        ),
      ),
    [],
  );
  // biome-ignore lint/correctness/useExhaustiveDependencies: another order begins at its first row
  useLayoutEffect(() => {
    box.current?.scrollTo({ top: 0 });
    setTop(0);
  }, [order]);
  const whole = Math.min(highest, list.rows * height);
  const scale = list.rows > seen && whole > seen * height ? (list.rows - seen + 1) / (whole - seen * height) : 0;
  const at = Math.min(Math.max(0, list.rows - seen), Math.floor(top * scale));
  const from = Math.max(0, at - beyond),
    to = Math.min(list.rows, at + seen + beyond);
  const rows = useRows(list, order, from, to);
  const scrolled = (e: UIEvent<HTMLElement>) => setTop(e.currentTarget.scrollTop);
  const places = Array.from({ length: to - from }, (_, i) => from + i);
  // Where the scroll is to scale, the rows stand where the window is.
  const above = whole === list.rows * height ? from * height : Math.max(0, top - (at - from) * height);
  return (
    <>
      {rows.error && <Trouble error={rows.error} again={rows.again} />}
      <p className="quiet" role="status">
        Rows {number(Math.min(list.rows, at + 1))} to {number(Math.min(list.rows, at + seen))} of {number(list.rows)}
        {rows.waits && " …"}
      </p>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reached by the keyboard */}
      <section className="window" ref={box} onScroll={scrolled} tabIndex={0} aria-label="Rows">
        <table className="rows many" aria-rowcount={list.rows + 1}>
          <thead>
            <tr aria-rowindex={1}>
              <Head n={0} name="Row" order={order} onOrder={onOrder} number />
              {columns.map((i) => (
                <Head
                  key={i}
                  n={i + 1}
                  name={list.columns[i]! || `column ${i + 1}`}
                  order={order}
                  onOrder={onOrder}
                  address={list.addressColumns.includes(i)}
                />
              ))}
            </tr>
          </thead>
          <tbody>
            <Space height={above} />
            {places.map((p) => {
              const row = rows.at(p);
              return (
                <tr key={p} style={{ height }} aria-rowindex={p + 2}>
                  <td className="number quiet">{row && number(row.row)}</td>
                  {columns.map((i) => (
                    <td key={i}>{row && <AddressText text={row.cells[i] ?? ""} long={60} />}</td>
                  ))}
                </tr>
              );
            })}
            <Space height={Math.max(0, whole - above - places.length * height)} />
          </tbody>
        </table>
      </section>
    </>
  );
}

/** Space stands for rows that are not drawn. */
function Space({ height }: { height: number }) {
  return (
    <tr className="space" style={{ height }}>
      <td />
    </tr>
  );
}

function Head({
  n,
  name,
  order,
  onOrder,
  number: isNumber,
  address,
}: {
  n: number;
  name: string;
  order: Order;
  onOrder: (o: Order) => void;
  number?: boolean;
  address?: boolean;
}) {
  const mine = order.by === n;
  return (
    <th
      className={isNumber ? "number" : undefined}
      aria-sort={mine ? (order.down ? "descending" : "ascending") : "none"}
    >
      <button type="button" className="plain" onClick={() => onOrder({ by: n, down: mine && !order.down })}>
        <AddressText text={name} long={40} />
        <span aria-hidden="true">{mine ? (order.down ? " ↓" : " ↑") : ""}</span>
      </button>
      {address && <small>the address</small>}
    </th>
  );
}
