import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Drawer } from "antd";
import { api, told, type Evidence, type Run } from "../api/client";
import { keys } from "../api/hooks";
import { AddressText } from "./AddressText";
import { Found } from "./Found";
import { Trouble, Wait } from "./Notice";

/** EvidenceDrawer shows all that was seen of one address, in the order in which it was seen. */
export function EvidenceDrawer({ run, address, onClose }: { run: number; address: number | undefined; onClose: () => void }) {
  const finished = useQueryClient().getQueryData<Run>(keys.run(run))?.finishedAt;
  const evidence = useQuery({
    queryKey: ["evidence", run, address, finished], 
    placeholderData: (old: Evidence | undefined) => (old?.address === address ? old : undefined),
    enabled: address !== undefined,
    // Another round may bring another answer while somebody looks.
    refetchInterval: finished ? false : 3000,
    queryFn: async () => told(await api.GET("/runs/{id}/results/{address}", { params: { path: { id: run, address: address! } } })),
  });
  const e = evidence.data;
  return (
    <Drawer open={address !== undefined} onClose={onClose} size={640} title={e ? <AddressText text={e.typed} /> : "Evidence"}>
      {evidence.error && <Trouble error={evidence.error} again={() => void evidence.refetch()} />}
      {!e && !evidence.error && <Wait for="the evidence" />}
      {e && <Found e={e} />}
      {e?.domain && <AskNow run={run} address={e.address} />}
    </Drawer>
  );
}

/** AskNow asks again about one address of a finished run, as another round of it. */
function AskNow({ run, address }: { run: number; address: number }) {
  const client = useQueryClient();
  const state = client.getQueryData<Run>(keys.run(run))?.state;
  const ask = useMutation({
    mutationFn: async () => told(await api.POST("/runs/{id}/ask-again", { params: { path: { id: run } }, body: { addresses: [address] } })),
    onSuccess: (r) => { client.setQueryData(keys.run(run), r); return client.invalidateQueries({ queryKey: ["evidence", run, address] }); },
  });
  if (state !== "finished" && !ask.isSuccess) return null;
  return (
    <>
      {ask.error && <Trouble error={ask.error} />}
      {ask.isSuccess ? <p role="status">It is being asked again; what it says now stands here when it has answered.</p>
        : <Button loading={ask.isPending} onClick={() => ask.mutate()}>Ask again now</Button>}
    </>
  );
}
