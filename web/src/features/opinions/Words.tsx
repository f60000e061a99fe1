import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { useState } from "react";
import { api, type Schema, told } from "../../api/client";
import { For } from "../../parts/For";
import { Trouble } from "../../parts/Notice";
import { findings, number } from "../../words";

const meanings = [
  ...findings.map((f) => ({ value: f as string, label: f as string })),
  { value: "", label: "nothing" },
];

/** Words says what the words of another check mean. */
export function Words({ list, c }: { list: number; c: Schema<"OpinionCheck"> }) {
  const client = useQueryClient();
  const [means, setMeans] = useState<Record<string, string>>(() =>
    Object.fromEntries(c.words.map((w) => [w.word, w.means])),
  );
  const save = useMutation({
    mutationFn: async () =>
      told(await api.PUT("/opinions/{name}", { params: { path: { name: c.name } }, body: { means } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["list-opinions", list] }),
  });
  const open = c.words.some((w) => !w.known);
  return (
    <div>
      <table className="rows">
        <thead>
          <tr>
            <th>Its word</th>
            <th className="number">Rows</th>
            <th>Means</th>
          </tr>
        </thead>
        <tbody>
          {c.words.map((w) => (
            <tr key={w.word}>
              <td>
                <bdi>{w.word}</bdi>
              </td>
              <td className="number">{number(w.rows)}</td>
              <td>
                <Select
                  aria-label={`What ${w.word} means`}
                  className="wide"
                  size="small"
                  value={means[w.word] ?? ""}
                  options={meanings}
                  onChange={(v) => setMeans({ ...means, [w.word]: v })}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <For scope="import">
        <p className="acts">
          <Button type={open ? "primary" : "default"} loading={save.isPending} onClick={() => save.mutate()}>
            Save what the words mean
          </Button>
          {open && <span>Suggested by the words themselves; check them, and save.</span>}
        </p>
      </For>
      {save.error && <Trouble error={save.error} />}
    </div>
  );
}
