import { useQuery } from "@tanstack/react-query";
import { api, told } from "../../api/client";

/** useTeam returns the workspace with its people. */
export function useTeam() {
  return useQuery({ queryKey: ["team"], queryFn: async () => told(await api.GET("/team")) });
}
