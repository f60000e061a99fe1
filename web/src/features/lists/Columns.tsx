import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, type List, type Schema, told } from "../../api/client";
import { Trouble, Wait } from "../../parts/Notice";
import { number, share } from "../../words";

/** Columns says what the columns of a list are like, once somebody asks. */
export function Columns({ list }: { list: List }) {
  const [open, setOpen] = useState(false);
  return (
    <details className="paste" open={open} onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary>What its columns are like</summary>
      {open && <Profile list={list} />}
    </details>
  );
}

function Profile({ list }: { list: List }) {
  const profile = useQuery({
    queryKey: ["list-columns", list.id],
    queryFn: async () => told(await api.GET("/lists/{id}/columns", { params: { path: { id: list.id } } })).items,
    staleTime: Number.POSITIVE_INFINITY, // a list does not change
  });
  if (profile.error) return <Trouble error={profile.error} again={() => void profile.refetch()} />;
  if (!profile.data) return <Wait for="the columns" />;
  return (
    <div className="scroll">
      <table className="rows profile">
        <thead>
          <tr>
            <th>Column</th>
            <th className="number">Empty</th>
            <th className="number">Different values</th>
            <th className="number">Characters</th>
            <th>Commonest</th>
          </tr>
        </thead>
        <tbody>
          {profile.data.map((c, i) => (
            <tr key={i}>
              <td>
                <bdi>{c.column}</bdi>
              </td>
              <td className="number">{c.empty === 0 ? "none" : share(c.empty, c.rows, "rows")}</td>
              <td className="number">
                {c.exact ? "" : "over "}
                {number(c.distinct)}
              </td>
              <td className="number">
                {c.longest === 0 ? "" : c.shortest === c.longest ? c.longest : `${c.shortest} to ${c.longest}`}
              </td>
              <td>
                <Common column={c} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** day is a date without its time. */
const day = (iso: string | undefined) => iso?.slice(0, 10);

/** shownValues is how many of the commonest values are shown. */
const shownValues = 4;

function Common({ column: c }: { column: Schema<"ColumnProfile"> }) {
  if (c.dates > 0)
    return (
      <>
        {day(c.earliest)} to {day(c.latest)}
        {c.dates + c.empty < c.rows && (
          <small className="quiet"> {number(c.rows - c.dates - c.empty)} are not dates</small>
        )}
      </>
    );
  if (c.most.length === 0) return <span className="quiet">each value once</span>;
  return c.most.slice(0, shownValues).map((v, i) => (
    <span key={v.value}>
      {i > 0 && ", "}
      <bdi>{v.value}</bdi> <small className="quiet">({number(v.rows)})</small>
    </span>
  ));
}
