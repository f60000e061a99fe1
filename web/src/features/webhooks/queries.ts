import { useQuery } from "@tanstack/react-query";
import { api, items } from "../../api/client";

/** useWebhooks returns the webhooks of the workspace. */
export function useWebhooks() {
  return useQuery({ queryKey: ["webhooks"], queryFn: async () => items(await api.GET("/webhooks")) });
}
