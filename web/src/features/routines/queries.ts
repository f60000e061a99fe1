import { useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, items, told } from "../../api/client";

export const routineKeys = {
  all: ["routines"] as const,
  one: (id: number) => ["routine", id] as const,
  times: (id: number) => ["routine-times", id] as const,
};

/** useRoutines returns the routines of the workspace. */
export function useRoutines() {
  return useQuery({ queryKey: routineKeys.all, queryFn: async () => items(await api.GET("/routines")) });
}

export function useRoutine(id: number) {
  return useQuery({
    queryKey: routineKeys.one(id),
    queryFn: async () => told(await api.GET("/routines/{id}", { params: { path: { id } } })),
    enabled: id > 0,
  });
}

/** useTimes returns the times of a routine, the newest first. */
export function useTimes(id: number) {
  return useInfiniteQuery({
    queryKey: routineKeys.times(id),
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) =>
      told(
        await api.GET("/routines/{id}/times", { params: { path: { id }, query: { cursor: pageParam, limit: 30 } } }),
      ),
    getNextPageParam: (last) => last.next,
    select: (pages) => pages.pages.flatMap((p) => p.items),
  });
}
