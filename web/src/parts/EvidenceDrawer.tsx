import { useQuery } from "@tanstack/react-query";
import { Drawer } from "antd";
import { api, told } from "../api/client";
import { AddressText } from "./AddressText";
import { Found } from "./Found";
import { Trouble, Wait } from "./Notice";

/** EvidenceDrawer shows all that was seen of one address, in the order in which it was seen. */
export function EvidenceDrawer({ run, address, onClose }: { run: number; address: number | undefined; onClose: () => void }) {
  const evidence = useQuery({
    queryKey: ["evidence", run, address],
    enabled: address !== undefined,
    queryFn: async () => told(await api.GET("/runs/{id}/results/{address}", { params: { path: { id: run, address: address! } } })),
  });
  const e = evidence.data;
  return (
    <Drawer open={address !== undefined} onClose={onClose} size={640} title={e ? <AddressText text={e.typed} /> : "Evidence"}>
      {evidence.error && <Trouble error={evidence.error} again={() => void evidence.refetch()} />}
      {!e && !evidence.error && <Wait for="the evidence" />}
      {e && <Found e={e} />}
    </Drawer>
  );
}
