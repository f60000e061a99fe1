import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Button } from "antd";
import { api, type Run, told } from "../../api/client";
import { keys } from "../../api/hooks";
import { Trouble } from "../../parts/Notice";

type Act = "begin" | "pause" | "resume" | "stop";

/** Life begins, pauses, resumes and stops a run. */
export function Life({ run }: { run: Run }) {
  const client = useQueryClient();
  const act = useMutation({
    mutationFn: async (what: Act) => told(await api.POST(`/runs/{id}/${what}`, { params: { path: { id: run.id } } })),
    onSuccess: (r) => client.setQueryData(keys.run(run.id), r),
  });
  const [next, says]: [Act, string] =
    run.state === "drafted"
      ? ["begin", "Begin now"]
      : run.state === "paused"
        ? ["resume", "Go on"]
        : ["pause", "Pause"];
  return (
    <>
      <Button loading={act.isPending} onClick={() => act.mutate(next)}>
        {says}
      </Button>
      <Button loading={act.isPending} onClick={() => act.mutate("stop")}>
        {run.state === "drafted" ? "Do not run it" : "Stop, keep what is known"}
      </Button>
      {act.error && <Trouble error={act.error} />}
    </>
  );
}
