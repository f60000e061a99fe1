import { useQuery } from "@tanstack/react-query";
import { api, items } from "../../api/client";

/** useKeys returns the keys of the workspace. */
export function useKeys() {
  return useQuery({ queryKey: ["keys"], queryFn: async () => items(await api.GET("/keys")) });
}
