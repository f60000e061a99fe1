import { useQuery } from "@tanstack/react-query";
import { api, told } from "../../api/client";

/** useHealth gives what waits to be worked, and looks again every five seconds. */
export function useHealth() {
  return useQuery({ queryKey: ["health"], queryFn: async () => told(await api.GET("/health")), refetchInterval: 5000 });
}
