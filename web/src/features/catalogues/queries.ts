import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { api, items, told } from "../../api/client";
import type { Kind } from "./kinds";

/** useOwnEntries returns the workspace's own entries, the first 500 of them. */
export function useOwnEntries() {
  return useQuery({
    queryKey: ["catalogue"],
    queryFn: async () => items(await api.GET("/catalogue", { params: { query: { limit: 500 } } })),
  });
}

/** useFollowed returns the catalogues that the workspace follows. */
export function useFollowed() {
  return useQuery({
    queryKey: ["catalogue", "sources"],
    queryFn: async () => items(await api.GET("/catalogue/sources")),
  });
}

/** useShipped returns the entries of a shipped catalogue with a text in their name, page after page. */
export function useShipped(kind: Kind, search: string) {
  return useInfiniteQuery({
    queryKey: ["catalogue", "shipped", kind, search],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) =>
      told(await api.GET("/catalogue/shipped", { params: { query: { kind, search, cursor: pageParam, limit: 100 } } })),
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
    select: (pages) => pages.pages.flatMap((p) => p.items),
  });
}
