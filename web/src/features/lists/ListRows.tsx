import { Checkbox } from "antd";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import type { List } from "../../api/client";
import { useList } from "../../api/hooks";
import { AddressText } from "../../parts/AddressText";
import { Trouble, Wait } from "../../parts/Notice";
import { Table } from "./RowTable";
import type { Order } from "./useRows";

/** At first no more columns are shown than a person can take in. */
const firstColumns = 8;

/** ListRows shows the rows of a list as they were imported, in the order and with the columns that are wanted. */
export function ListRows() {
  const list = useList(Number(useParams().id));
  if (list.error) return <Trouble error={list.error} again={() => void list.refetch()} />;
  if (!list.data) return <Wait for="the list" />;
  return (
    <>
      <p className="path">
        <Link to="/lists">Lists</Link> →{" "}
        <Link to={`/lists/${list.data.id}`}>
          <bdi>{list.data.name}</bdi>
        </Link>{" "}
        →
      </p>
      <h1>Rows</h1>
      <Rows list={list.data} />
    </>
  );
}

function Rows({ list }: { list: List }) {
  const [shown, setShown] = useState(() =>
    list.columns.map((_, i) => i).filter((i) => i < firstColumns || list.addressColumns.includes(i)),
  );
  const [search, setSearch] = useSearchParams();
  const by = Number(search.get("by")) || 0;
  const [order, setOrder] = useState<Order>({
    by: by <= list.columns.length ? by : 0,
    down: search.get("down") === "true",
  });
  const change = (o: Order) => {
    setOrder(o);
    setSearch({ by: String(o.by), down: String(o.down) }, { replace: true });
  };
  return (
    <>
      <details className="paste">
        <summary>
          Columns: {shown.length} of {list.columns.length} are shown
        </summary>
        <Checkbox.Group
          className="columns"
          value={shown}
          onChange={(v) => setShown([...(v as number[])].sort((a, b) => a - b))}
          options={list.columns.map((c, i) => ({
            value: i,
            label: <AddressText text={c || `column ${i + 1}`} long={40} />,
          }))}
        />
      </details>
      <Table list={list} columns={shown} order={order} onOrder={change} />
    </>
  );
}
