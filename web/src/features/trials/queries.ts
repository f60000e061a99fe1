import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Schema, told } from "../../api/client";

/** useTrialSender gives by whom and how trial letters are sent. */
export function useTrialSender() {
  return useQuery({ queryKey: ["trial-sender"], queryFn: async () => told(await api.GET("/trial-letters/sender")) });
}

/** useSenderChange changes the sender, and shows it as it is then. */
export function useSenderChange<In>(change: (value: In) => Promise<Schema<"TrialSender">>) {
  const client = useQueryClient();
  return useMutation({ mutationFn: change, onSuccess: (s) => client.setQueryData(["trial-sender"], s) });
}

/** useForecast gives what settling the catch-all addresses of a run will take. */
export function useForecast(run: number) {
  return useQuery({
    queryKey: ["trial-forecast", run],
    queryFn: async () => told(await api.GET("/runs/{id}/trial-letters", { params: { path: { id: run } } })),
  });
}
