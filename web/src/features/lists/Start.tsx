import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { Button, Checkbox } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type List, type Schema, told } from "../../api/client";
import { atOnce } from "../../api/early";
import { usePolicies } from "../../api/hooks";
import { Choice } from "../../parts/Choice";
import { For } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { plural } from "../../words";
import { useAllowance } from "../allowance/queries";
import { hashOf } from "../workshop/steps";
import { draftOf, reuseAtFirst } from "./draft";
import { type Times, When } from "./Schedule";

type Depth = "syntax" | "domain" | "mailbox";
const depths: { value: Depth; label: string }[] = [
  { value: "mailbox", label: "mailbox: ask the mail hosts" },
  { value: "domain", label: "domain: ask DNS alone" },
  { value: "syntax", label: "syntax: the form of the address alone" },
];
const ages = [
  { value: 0, label: "ask about every address" },
  ...[7, 30, 90].map((d) => ({ value: d, label: `reuse results from the last ${d} days` })),
];

/** Start settles a run and starts it. */
export function Start({ list }: { list: List }) {
  const [depth, setDepth] = useState<Depth>("mailbox");
  const [policy, setPolicy] = useState("careful");
  const [reuseDays, setReuse] = useState(reuseAtFirst(list));
  const [times, setTimes] = useState<Times>({});
  const [urgent, setUrgent] = useState(false);
  const allowance = useAllowance();
  const policies = usePolicies();
  const body = { depth, policy, reuseDays, ...times, ...(urgent && { urgent }) };
  const go = useNavigate();
  const start = useMutation({
    mutationFn: async () => told(await api.POST("/lists/{id}/runs", { params: { path: { id: list.id } }, body })),
    onSuccess: (run) => void go(`/runs/${run.id}`),
  });
  return (
    <>
      <div className="settle">
        <Choice label="Depth" value={depth} onChange={setDepth} options={depths} popupMatchSelectWidth={false} />
        <Choice
          label="Decided by the policy"
          name="Policy"
          value={policy}
          onChange={setPolicy}
          options={(policies.data ?? []).map((p) => ({ value: p.name, label: p.name }))}
        />
        <Choice
          label="Results of earlier runs"
          value={reuseDays}
          onChange={setReuse}
          options={ages}
          popupMatchSelectWidth={false}
        />
      </div>
      <When change={setTimes} />
      {allowance.data?.plan && allowance.data.plan.urgent > 0 && (
        <Checkbox className="urgent" checked={urgent} onChange={(e) => setUrgent(e.target.checked)}>
          Urgent: goes before others, at {allowance.data.plan.urgent} times the cost
        </Checkbox>
      )}
      <Takes list={list} depth={depth} reuseDays={reuseDays} urgent={urgent} />
      {start.error && <Trouble error={start.error} />}
      <Button type="primary" size="large" loading={start.isPending} onClick={() => start.mutate()}>
        {times.beginAt || times.hours ? "Have it run then" : list.lastRun ? "Start another run" : "Start the run"}
      </Button>
    </>
  );
}

/** Takes says what the run will take as it is settled now. */
function Takes(props: { list: List; depth: Depth; reuseDays: number; urgent: boolean }) {
  const { list, depth, reuseDays, urgent } = props;
  const asked = draftOf(depth, reuseDays, urgent);
  const draft = useQuery({
    queryKey: ["draft", list.id, asked.depth, asked.reuseDays, urgent],
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    queryFn: async () => told(await api.POST("/lists/{id}/draft", { params: { path: { id: list.id } }, body: asked })),
    ...atOnce<Schema<"Draft">>(`/lists/${list.id}/draft`, asked),
  });
  if (draft.error) return <Trouble error={draft.error} again={() => void draft.refetch()} />;
  if (!draft.data) return <Wait for="what the run will take: the largest domains are looked up" />;
  const costs = draft.data.allowance;
  return (
    <>
      <p className="estimate-says takes" role="status">
        {draft.data.sentence}
      </p>
      {costs && (
        <p className="takes" role="status">
          {costs.says}
        </p>
      )}
      {costs && costs.missing > 0 && <TooFew list={list} costs={costs} />}
    </>
  );
}

/** TooFew offers what can be done where too few checks are left: more of them, or fewer rows. */
function TooFew({ list, costs }: { list: List; costs: Schema<"SaidBefore"> }) {
  const allowance = useAllowance();
  const each = Math.max(1, Math.round(costs.most / Math.max(1, list.addresses)));
  const rows = Math.floor(costs.available / each);
  const part = hashOf({ listId: list.id, steps: [{ do: "slice", to: rows }] });
  return (
    <p className="row-acts">
      {allowance.data?.canBuy && (
        <For scope="manage">
          <Link to={`/purchases?checks=${costs.missing}&list=${list.id}`}>Buy {plural(costs.missing, "check")}</Link>
        </For>
      )}
      {rows > 0 && <Link to={`/workshop${part}`}>Make a list of the first {plural(rows, "row")}, and verify that</Link>}
    </p>
  );
}
