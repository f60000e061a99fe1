import { useQuery } from "@tanstack/react-query";
import { api, told } from "../../api/client";

/** useInstallation gives what holds for all workspaces, and what each uses. */
export function useInstallation() {
  return useQuery({ queryKey: ["installation"], queryFn: async () => told(await api.GET("/installation")) });
}
