import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Button, Drawer } from "antd";
import { api, type Evidence, type Run, told } from "../api/client";
import { keys } from "../api/hooks";
import { AddressText } from "./AddressText";
import { Found } from "./Found";
import { Trouble, Wait } from "./Notice";

/** EvidenceDrawer shows all that was seen of one address, in the order in which it was seen. */
export function EvidenceDrawer({
  run,
  ordinal,
  onClose,
}: {
  run: number;
  ordinal: number | undefined;
  onClose: () => void;
}) {
  const finished = useQueryClient().getQueryData<Run>(keys.run(run))?.finishedAt;
  const evidence = useQuery({
    queryKey: ["evidence", run, ordinal, finished],
    placeholderData: (old: Evidence | undefined) => (old?.ordinal === ordinal ? old : undefined),
    enabled: ordinal !== undefined,
    queryFn: async () =>
      told(await api.GET("/runs/{id}/results/{ordinal}", { params: { path: { id: run, ordinal: ordinal! } } })),
  });
  const e = evidence.data;
  return (
    <Drawer
      open={ordinal !== undefined}
      onClose={onClose}
      size={640}
      title={<h2 className="drawer-title">{e ? <AddressText text={e.typed} /> : "Evidence"}</h2>}
    >
      {evidence.error && <Trouble error={evidence.error} again={() => void evidence.refetch()} />}
      {!e && !evidence.error && <Wait for="the evidence" />}
      {e && <Found e={e} />}
      {e?.domain && <AskNow run={run} ordinal={e.ordinal} />}
    </Drawer>
  );
}

/** AskNow asks again about one address of a finished run, as another round of it. */
function AskNow({ run, ordinal }: { run: number; ordinal: number }) {
  const client = useQueryClient();
  const state = client.getQueryData<Run>(keys.run(run))?.state;
  const ask = useMutation({
    mutationFn: async () =>
      told(await api.POST("/runs/{id}/ask-again", { params: { path: { id: run } }, body: { ordinals: [ordinal] } })),
    onSuccess: (r) => {
      client.setQueryData(keys.run(run), r);
      return client.invalidateQueries({ queryKey: ["evidence", run, ordinal] });
    },
  });
  if (state !== "finished" && !ask.isSuccess) return null;
  return (
    <>
      {ask.error && <Trouble error={ask.error} />}
      {ask.isSuccess ? (
        <p role="status">It is being asked again; its answer appears here.</p>
      ) : (
        <Button loading={ask.isPending} onClick={() => ask.mutate()}>
          Ask again now
        </Button>
      )}
    </>
  );
}
