import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, items, type Schema, told } from "../../api/client";
import { saved } from "../../api/saved";

/** useRequests gives what persons asked for; as long as one is at work it is asked again. */
export function useRequests() {
  return useQuery({
    queryKey: ["requests"],
    queryFn: async () => items(await api.GET("/requests")),
    refetchInterval: (q) => (q.state.data?.some((r) => r.state === "working") ? 2000 : false),
  });
}

/** useLook looks an address up. The address is sent in no URL. */
export function useLook() {
  return useMutation({
    mutationFn: async (address: string) => told(await api.POST("/requests/look", { body: { address } })),
  });
}

/** useFile saves the file for the person. */
export function useFile(address: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (format: NonNullable<Schema<"RightsFile">["format"]>) => {
      const answer = await api.POST("/requests/file", { body: { address, format }, parseAs: "blob" });
      saved(told(answer) as unknown as Blob, format === "text" ? "answer.txt" : "answer.json");
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["requests"] }),
  });
}

/** useOrder has an address erased, or allows one again. Lists and results are other ones then. */
export function useOrder(address: string) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (kind: Schema<"RightsOrder">["kind"]) =>
      told(await api.POST("/requests", { body: { address, kind } })),
    onSuccess: () => client.invalidateQueries(),
  });
}
