import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, type List, told } from "../../api/client";
import { keys } from "../../api/hooks";

/** Archive puts a list aside, or back among the others. */
export function Archive({ list }: { list: List }) {
  const client = useQueryClient();
  const aside = list.archivedAt === undefined;
  const move = useMutation({
    mutationFn: async () =>
      told(await api.PATCH("/lists/{id}", { params: { path: { id: list.id } }, body: { archived: aside } })),
    onSuccess: () => client.invalidateQueries({ queryKey: keys.lists }),
  });
  const act = aside ? "Archive" : "Unarchive";
  return (
    <button type="button" className="plain" onClick={() => move.mutate()}>
      {move.error?.message ?? act}
      <span className="unseen">: {list.name}</span>
    </button>
  );
}
