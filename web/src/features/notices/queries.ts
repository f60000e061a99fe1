import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, items, type Schema, told } from "../../api/client";
import { keys } from "../../api/hooks";

/** useNotices gives what the person is told. */
export function useNotices() {
  return useQuery({ queryKey: keys.notices, queryFn: async () => told(await api.GET("/notices")) });
}

/** useRead records that notices were read: one with those like it, or all up to a number. */
export function useRead() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async (which: Schema<"NoticesRead">) => told(await api.POST("/notices/read", { body: which })),
    onSuccess: (notices) => client.setQueryData(keys.notices, notices),
  });
}

/** useKinds gives what can happen. */
export function useKinds() {
  return useQuery({
    queryKey: ["event-kinds"],
    queryFn: async () => items(await api.GET("/event-kinds")),
    staleTime: Infinity,
  });
}

export function useWishes() {
  return useQuery({ queryKey: ["letter-wishes"], queryFn: async () => told(await api.GET("/person/letters")) });
}
