import { useInfiniteQuery } from "@tanstack/react-query";
import { Button, Checkbox } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, told, type List, type Schema } from "../api/client";
import { useList } from "../api/hooks";
import { AddressText } from "../parts/AddressText";
import { Trouble, Wait } from "../parts/Notice";
import { number } from "../words";

type ListRow = Schema<"ListRow">;
const pageSize = 100;
/** At first no more columns are shown than a person can take in. */
const firstColumns = 8;

/** ListRows shows the rows of a list as they were brought in, page after page, with the columns that are wanted. */
export function ListRows() {
  const list = useList(Number(useParams().id));
  if (list.error) return <Trouble error={list.error} again={() => void list.refetch()} />;
  if (!list.data) return <Wait for="the list" />;
  return (
    <>
      <p className="path"><Link to="/lists">Lists</Link> → <Link to={`/lists/${list.data.id}`}><bdi>{list.data.name}</bdi></Link> →</p>
      <h1>Rows</h1>
      <Table list={list.data} />
    </>
  );
}

function Table({ list }: { list: List }) {
  const [shown, setShown] = useState(() => list.columns.map((_, i) => i).filter((i) => i < firstColumns || list.addressColumns.includes(i)));
  const pages = useInfiniteQuery({
    queryKey: ["rows", list.id], initialPageParam: 0,
    queryFn: async ({ pageParam }) => told(await api.GET("/lists/{id}/rows", { params: { path: { id: list.id }, query: { after: pageParam, limit: pageSize } } })),
    getNextPageParam: (last: ListRow[]) => (last.length === pageSize ? last[pageSize - 1]!.row : undefined),
  });
  if (pages.error) return <Trouble error={pages.error} again={() => void pages.refetch()} />;
  if (!pages.data) return <Wait for="the rows" />;
  const rows = pages.data.pages.flat();
  return (
    <>
      <details className="paste"><summary>Columns: {shown.length} of {list.columns.length} are shown</summary>
        <Checkbox.Group className="columns" value={shown} onChange={(v) => setShown([...(v as number[])].sort((a, b) => a - b))} options={list.columns.map((c, i) => ({ value: i, label: <AddressText text={c || `column ${i + 1}`} long={40} /> }))} />
      </details>
      <p className="quiet" role="status">The first {number(rows.length)} of {number(list.rows)} rows.</p>
      <div className="scroll" tabIndex={0} role="region" aria-label="Rows">
        <table className="rows many">
          <thead><tr><th className="number">Row</th>{shown.map((i) => <th key={i}><AddressText text={list.columns[i]! || `column ${i + 1}`} long={40} />{list.addressColumns.includes(i) && <small>the address</small>}</th>)}</tr></thead>
          <tbody>{rows.map((r) => <tr key={r.row}><td className="number quiet">{number(r.row)}</td>{shown.map((i) => <td key={i}><AddressText text={r.cells[i] ?? ""} /></td>)}</tr>)}</tbody>
        </table>
      </div>
      {pages.hasNextPage && <Button loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>Show {pageSize} more</Button>}
    </>
  );
}
