import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Input, Select } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type List, type Schema, told } from "../../api/client";
import { useList } from "../../api/hooks";
import { Trouble, Wait } from "../../parts/Notice";

type Meaning = Schema<"ColumnMeaning">;

const holds: { value: Meaning["holds"]; label: string; asks?: string }[] = [
  { value: "first-name", label: "first names" },
  { value: "last-name", label: "last names" },
  { value: "name", label: "whole names" },
  { value: "activity", label: "days on which something was seen", asks: "what was seen: opened, ordered …" },
  { value: "opinion", label: "what another check found", asks: "whose check it is" },
];

/** Meanings says what the columns of a list hold: names, days of activity, what other checks found. */
export function Meanings() {
  const id = Number(useParams().id);
  const list = useList(id);
  const meanings = useQuery({
    queryKey: ["list-meanings", id],
    queryFn: async () => told(await api.GET("/lists/{id}/meanings", { params: { path: { id } } })),
  });
  const error = list.error ?? meanings.error;
  if (error) return <Trouble error={error} again={() => void meanings.refetch()} />;
  if (!list.data || !meanings.data) return <Wait for="the columns" />;
  return (
    <>
      <p className="path">
        <Link to="/lists">Lists</Link> →{" "}
        <Link to={`/lists/${id}`}>
          <bdi>{list.data.name}</bdi>
        </Link>{" "}
        →
      </p>
      <h1>What its columns hold</h1>
      <p>
        Names improve the <Link to="/odds">odds of catch-all addresses</Link>. Days tell when an address was last
        active. What another check found is compared with what a run finds.
        {meanings.data.guessed && " So far this is guessed from the names of the columns."}
      </p>
      <Form key={JSON.stringify(meanings.data)} list={list.data} of={meanings.data.meanings} />
    </>
  );
}

function Form({ list, of }: { list: List; of: Meaning[] }) {
  const client = useQueryClient();
  const [meanings, setMeanings] = useState(of);
  const save = useMutation({
    mutationFn: async () =>
      told(await api.PUT("/lists/{id}/meanings", { params: { path: { id: list.id } }, body: { meanings } })),
    onSuccess: (now) => {
      client.setQueryData(["list-meanings", list.id], now);
      for (const key of ["list-opinions", "list-activity", "evidence"])
        void client.invalidateQueries({ queryKey: [key] });
    },
  });
  const change = (column: string, next: Meaning | undefined) =>
    setMeanings((all) => [...all.filter((m) => m.column !== column), ...(next ? [next] : [])]);
  const opinions = of.filter((m) => m.holds === "opinion");
  return (
    <>
      <div className="scroll">
        <table className="rows narrow meanings">
          <thead>
            <tr>
              <th>Column</th>
              <th>Holds</th>
              <th>Details</th>
            </tr>
          </thead>
          <tbody>
            {list.columns.map((column) => {
              const m = meanings.find((one) => one.column === column);
              const asks = holds.find((h) => h.value === m?.holds)?.asks;
              return (
                <tr key={column}>
                  <td>
                    <bdi>{column}</bdi>
                  </td>
                  <td>
                    <Select
                      aria-label={`What ${column} holds`}
                      value={m?.holds ?? ""}
                      options={[{ value: "", label: "none of these" }, ...holds]}
                      onChange={(v) => change(column, v ? { column, holds: v as Meaning["holds"] } : undefined)}
                    />
                  </td>
                  <td>
                    {m && asks && (
                      <Input
                        aria-label={`Of ${column}, ${asks}`}
                        placeholder={asks}
                        maxLength={60}
                        value={m.of ?? ""}
                        onChange={(e) => change(column, { ...m, of: e.target.value })}
                      />
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      <p className="acts">
        <Button type="primary" loading={save.isPending} onClick={() => save.mutate()}>
          Save
        </Button>
        {save.isSuccess && <span role="status">Saved.</span>}
        {opinions.length > 0 && <Link to={`/lists/${list.id}/opinions`}>Compare the checks</Link>}
      </p>
      {save.error && <Trouble error={save.error} />}
    </>
  );
}
