import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, told } from "../../api/client";
import { useMay } from "../../parts/For";
import { Trouble, Wait } from "../../parts/Notice";
import { type Rule, useOwnRules } from "./queries";
import { howFar, RuleList } from "./Rules";

/** OwnRules are the workspace's own rules about whom to ask, and how far. */
export function OwnRules() {
  const client = useQueryClient();
  const rules = useOwnRules();
  const may = useMay("manage");
  const change = useMutation({
    mutationFn: async (rules: Rule[]) => told(await api.PUT("/rules", { body: { rules } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["own-rules"] }),
  });
  if (rules.error) return <Trouble error={rules.error} again={() => void rules.refetch()} />;
  return (
    <>
      <h1>Rules of the workspace</h1>
      <p>
        Whom Varnet asks about for you, and how far. They hold beside the rules of the installation; where two match,
        the one that asks less far counts. They count for what is started or checked from then on.
      </p>
      {rules.data ? (
        <RuleList rules={rules.data} parts={[]} whats={howFar} change={change} may={may} />
      ) : (
        <Wait for="the rules" />
      )}
    </>
  );
}
