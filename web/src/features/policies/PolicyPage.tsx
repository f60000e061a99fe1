import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Input, Select } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { api, type Policy, type PolicyRule, told } from "../../api/client";
import { keys, useLists, usePolicies, useSettled } from "../../api/hooks";
import { Choice } from "../../parts/Choice";
import { Sentence, Trouble, Wait } from "../../parts/Notice";
import { number } from "../../words";
import { decisions } from "./decisions";
import { RuleRow } from "./RuleRow";

/** PolicyPage writes or changes a policy of one's own, with its counts on a run. */
export function PolicyPage() {
  const { name } = useParams();
  const [search] = useSearchParams();
  const policies = usePolicies();
  if (policies.error) return <Trouble error={policies.error} again={() => void policies.refetch()} />;
  if (!policies.data) return <Wait for="the policies" />;
  const from = policies.data.find((p) => p.name === (name ?? search.get("from") ?? "careful"));
  if (!from)
    return (
      <p>
        There is no policy named “{name}”. <Link to="/policies">See them all</Link>
      </p>
    );
  const own: Policy = {
    name: name ?? "",
    for: name ? from.for : "",
    rules: from.rules,
    otherwise: from.otherwise ?? "drop",
  };
  return <Editor key={from.name} start={own} changing={name !== undefined} />;
}

function Editor({ start, changing }: { start: Policy; changing: boolean }) {
  const [policy, setPolicy] = useState(start);
  const go = useNavigate();
  const client = useQueryClient();
  const [search, setSearch] = useSearchParams();
  const lists = useLists();
  const runs = (lists.data ?? []).flatMap((l) =>
    l.lastRun && l.lastRun.done > 0 ? [{ value: l.lastRun.id, label: `${l.name}, run ${l.lastRun.id}` }] : [],
  );
  const run = Number(search.get("run")) || runs[0]?.value;
  const settled = useSettled(policy, 250);
  const trial = useQuery({
    queryKey: ["try", run, settled.rules, settled.otherwise],
    enabled: run !== undefined,
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: async () =>
      told(await api.POST("/runs/{id}/try", { params: { path: { id: run! } }, body: { ...settled, name: "tried" } })),
  });
  const save = useMutation({
    mutationFn: async () =>
      told(await api.PUT("/policies/{name}", { params: { path: { name: policy.name } }, body: policy })),
    onSuccess: async () => {
      await client.invalidateQueries({ queryKey: keys.policies });
      void go(search.get("run") ? `/runs/${search.get("run")}/export?policy=${policy.name}` : "/policies");
    },
  });
  const rules = (change: (r: PolicyRule[]) => PolicyRule[]) => setPolicy((p) => ({ ...p, rules: change(p.rules) }));
  const counts = trial.data?.rules;
  return (
    <>
      <p className="path">
        <Link to="/policies">Policies</Link> →
      </p>
      <h1>{changing ? `Change ${policy.name}` : "A policy of your own"}</h1>
      <form
        className="settle"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        {!changing && (
          <label>
            Name
            <Input
              value={policy.name}
              onChange={(e) => setPolicy({ ...policy, name: e.target.value })}
              placeholder="small letters, digits, hyphens"
            />
          </label>
        )}
        <label>
          When it is the right one
          <Input
            value={policy.for ?? ""}
            onChange={(e) => setPolicy({ ...policy, for: e.target.value })}
            placeholder="in a sentence"
          />
        </label>
        {runs.length > 0 && (
          <Choice
            label="Tried on"
            value={run}
            onChange={(r) =>
              setSearch(
                (old) => {
                  const n = new URLSearchParams(old);
                  n.set("run", String(r));
                  return n;
                },
                { replace: true },
              )
            }
            options={runs}
            popupMatchSelectWidth={false}
          />
        )}
        <Button type="primary" htmlType="submit" disabled={policy.name === ""} loading={save.isPending}>
          Save
        </Button>
      </form>
      {save.error && <Trouble error={save.error} />}
      {trial.error ? <Trouble error={trial.error} /> : trial.data && <Sentence>{trial.data.sentence}</Sentence>}
      <ol className="parts rules">
        {policy.rules.map((r, i) => (
          <RuleRow
            key={i}
            rule={r}
            says={counts?.[i]?.reason ?? ""}
            rows={counts?.length === policy.rules.length + 1 ? counts[i]!.rows : undefined}
            onChange={(next) => rules((all) => all.map((x, at) => (at === i ? next : x)))}
            onRemove={() => rules((all) => all.filter((_, at) => at !== i))}
            onUp={i > 0 ? () => rules((all) => all.toSpliced(i - 1, 2, all[i]!, all[i - 1]!)) : undefined}
          />
        ))}
        <li className="rule-row">
          <Select
            aria-label="Otherwise"
            size="small"
            value={policy.otherwise}
            onChange={(otherwise) => setPolicy({ ...policy, otherwise })}
            options={decisions}
          />
          <span className="rule-says">whatever no rule matches</span>
          <span className="rule-count">{counts && number(counts[counts.length - 1]!.rows)} rows</span>
        </li>
      </ol>
      <Button onClick={() => rules((all) => [...all, { do: "hold" }])}>Add a rule</Button>
    </>
  );
}
