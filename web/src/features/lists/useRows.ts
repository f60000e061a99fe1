import { useQueries } from "@tanstack/react-query";
import { api, items, type List, type Schema } from "../../api/client";

export type ListRow = Schema<"ListRow">;
/** Order is by which column, from 1 (0: as in the file), and whether the largest comes first. */
export type Order = { by: number; down: boolean };
export const pageSize = 100;

/** useRows returns the rows from one place to another in an order, as far as they are there; pages that were seen are kept. */
export function useRows(list: List, order: Order, from: number, to: number) {
  const first = Math.floor(from / pageSize),
    last = Math.floor(Math.max(from, to - 1) / pageSize);
  const pages = useQueries({
    queries: Array.from({ length: last - first + 1 }, (_, i) => ({
      queryKey: ["rows", list.id, order, first + i],
      staleTime: Infinity,
      queryFn: async () =>
        items(
          await api.GET("/lists/{id}/rows", {
            params: { path: { id: list.id }, query: { skip: (first + i) * pageSize, limit: pageSize, ...order } },
          }),
        ),
    })),
  });
  const at = (place: number): ListRow | undefined =>
    pages[Math.floor(place / pageSize) - first]?.data?.[place % pageSize];
  return {
    at,
    error: pages.find((p) => p.error)?.error,
    again: () => pages.forEach((p) => void p.refetch()),
    waits: pages.some((p) => p.isPending),
  };
}
