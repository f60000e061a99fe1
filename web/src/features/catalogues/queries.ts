import { useQuery } from "@tanstack/react-query";
import { api, items } from "../../api/client";

/** useOwnEntries gives the workspace's own entries, the first 500 of them. */
export function useOwnEntries() {
  return useQuery({ queryKey: ["catalogue"], queryFn: async () => items(await api.GET("/catalogue", { params: { query: { limit: 500 } } })) });
}

/** useFollowed gives the catalogues that the workspace follows. */
export function useFollowed() {
  return useQuery({ queryKey: ["catalogue", "sources"], queryFn: async () => items(await api.GET("/catalogue/sources")) });
}
