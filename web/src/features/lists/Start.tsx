import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { Button } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type List, told } from "../../api/client";
import { usePolicies } from "../../api/hooks";
import { Choice } from "../../parts/Choice";
import { Trouble, Wait } from "../../parts/Notice";
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
  const [reuseDays, setReuse] = useState(list.earlierId || list.madeOf || list.lastRun ? 30 : 0);
  const [times, setTimes] = useState<Times>({});
  const policies = usePolicies();
  const body = { depth, policy, reuseDays, ...times };
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
      <Takes list={list} depth={depth} reuseDays={reuseDays} />
      {start.error && <Trouble error={start.error} />}
      <Button type="primary" size="large" loading={start.isPending} onClick={() => start.mutate()}>
        {times.beginAt || times.hours ? "Have it run then" : list.lastRun ? "Start another run" : "Start the run"}
      </Button>
    </>
  );
}

/** Takes says what the run will take as it is settled now. */
function Takes({ list, depth, reuseDays }: { list: List; depth: Depth; reuseDays: number }) {
  const asked = { depth, reuseDays, policy: "careful" };
  const draft = useQuery({
    queryKey: ["draft", list.id, asked.depth, asked.reuseDays],
    placeholderData: keepPreviousData,
    staleTime: 30_000,
    queryFn: async () => told(await api.POST("/lists/{id}/draft", { params: { path: { id: list.id } }, body: asked })),
  });
  if (draft.error) return <Trouble error={draft.error} again={() => void draft.refetch()} />;
  if (!draft.data) return <Wait for="what the run will take: the largest domains are looked up" />;
  return (
    <p className="estimate-says takes" role="status">
      {draft.data.sentence}
    </p>
  );
}
