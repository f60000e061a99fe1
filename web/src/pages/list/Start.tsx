import { useMutation } from "@tanstack/react-query";
import { Button, Select } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, told, type List } from "../../api/client";
import { usePolicies } from "../../api/hooks";
import { Trouble } from "../../parts/Notice";

type Depth = "syntax" | "domain" | "mailbox";
const depths: { value: Depth; label: string }[] = [
  { value: "mailbox", label: "to the mailbox: ask the mail hosts" }, { value: "domain", label: "to the domain: ask nobody but the name service" }, { value: "syntax", label: "to the form of the address alone" },
];
const ages = [{ value: 0, label: "ask about every address" }, ...[7, 30, 90].map((d) => ({ value: d, label: `take over what is younger than ${d} days` }))];

/** Start settles a run and starts it. */
export function Start({ list }: { list: List }) {
  const [depth, setDepth] = useState<Depth>("mailbox");
  const [policy, setPolicy] = useState("careful");
  const [reuseDays, setReuse] = useState(list.earlierId || list.lastRun ? 30 : 0);
  const policies = usePolicies();
  const go = useNavigate();
  const start = useMutation({
    mutationFn: async () => told(await api.POST("/lists/{id}/runs", { params: { path: { id: list.id } }, body: { depth, policy, reuseDays } })),
    onSuccess: (run) => void go(`/runs/${run.id}`),
  });
  return (
    <>
      <div className="settle">
        <label>How far<Select aria-label="How far" value={depth} onChange={setDepth} options={depths} popupMatchSelectWidth={false} /></label>
        <label>Decided by the policy<Select aria-label="Policy" value={policy} onChange={setPolicy} options={(policies.data ?? []).map((p) => ({ value: p.name, label: p.name }))} /></label>
        <label>Results of earlier runs<Select aria-label="Results of earlier runs" value={reuseDays} onChange={setReuse} options={ages} popupMatchSelectWidth={false} /></label>
      </div>
      {start.error && <Trouble error={start.error} />}
      <Button type="primary" size="large" loading={start.isPending} onClick={() => start.mutate()}>{list.lastRun ? "Start another run" : "Start the run"}</Button>
    </>
  );
}
