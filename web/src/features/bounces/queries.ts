import { useQuery } from "@tanstack/react-query";
import { api, items, told } from "../../api/client";

/** changedKeys are the queries whose answers change when something came back. */
export const changedKeys = [["outcomes"], ["mailings"], ["mailing"], ["returned"], ["letters-of"]];

/** useMailings returns the newest mailings, of one list or of all. */
export function useMailings(list = 0) {
  return useQuery({
    queryKey: ["mailings", list],
    queryFn: async () =>
      items(await api.GET("/mailings", { params: { query: list > 0 ? { listId: list } : { limit: 20 } } })),
  });
}

const movingStates: string[] = ["preparing", "sending"];

/** useMailing returns a mailing; while its letters leave, again and again. */
export function useMailing(id: number) {
  return useQuery({
    queryKey: ["mailing", id],
    queryFn: async () => told(await api.GET("/mailings/{id}", { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data && movingStates.includes(q.state.data.state) ? 3000 : false),
  });
}

/** useOutcomes gives what became of the letters, of one mailing or of all. */
export function useOutcomes(mailing = 0) {
  return useQuery({
    queryKey: ["outcomes", mailing],
    queryFn: async () =>
      told(await api.GET("/outcomes", { params: { query: mailing > 0 ? { mailingId: mailing } : {} } })),
  });
}

/** useReturned returns the messages that came back last. */
export function useReturned() {
  return useQuery({
    queryKey: ["returned"],
    queryFn: async () => items(await api.GET("/bounces", { params: { query: { limit: 20 } } })),
  });
}
