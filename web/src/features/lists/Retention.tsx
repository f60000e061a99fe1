import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Select } from "antd";
import { useNavigate } from "react-router";
import { api, type List, told } from "../../api/client";
import { keys } from "../../api/hooks";
import { Trouble } from "../../parts/Notice";
import { Sure } from "../../parts/Sure";
import { moment, plural } from "../../words";

const days = [7, 30, 90, 365].map((d) => ({ value: d, label: `${d} days after its last run` }));

/** Retention says until when the list is kept, and deletes it now if wanted. */
export function Retention({ list }: { list: List }) {
  const client = useQueryClient();
  const go = useNavigate();
  const change = useMutation({
    mutationFn: async (d: number) =>
      told(await api.PATCH("/lists/{id}", { params: { path: { id: list.id } }, body: { keepDays: d } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.list(list.id) }),
  });
  const remove = useMutation({
    mutationFn: async () => told(await api.DELETE("/lists/{id}", { params: { path: { id: list.id } } })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: keys.lists });
      void go("/lists");
    },
  });
  return (
    <section>
      <h2>How long it is kept</h2>
      <p>
        {list.keptUntil
          ? `It is kept until ${moment(list.keptUntil)}; then its rows, runs, results and evidence are deleted.`
          : "It is kept until somebody deletes it."}
      </p>
      <div className="acts">
        <Select
          aria-label="Keep it"
          placeholder="keep it for …"
          style={{ minWidth: 240 }}
          onChange={(d) => change.mutate(d)}
          options={[...days, { value: 0, label: "until somebody deletes it" }]}
          popupMatchSelectWidth={false}
        />
        <Sure
          ask={`Delete ${plural(list.rows, "row")} with all runs, results and evidence?`}
          says="Nothing of it can be brought back."
          yes="Delete it"
          onYes={() => remove.mutate()}
        >
          Delete it now
        </Sure>
      </div>
      {(change.error ?? remove.error) && <Trouble error={(change.error ?? remove.error)!} />}
    </section>
  );
}
