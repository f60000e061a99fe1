import { keepPreviousData, useInfiniteQuery, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, items, told, type Run } from "./client";

export const keys = {
  session: ["session"] as const,
  lists: ["lists"] as const,
  list: (id: number) => ["list", id] as const,
  run: (id: number) => ["run", id] as const,
  policies: ["policies"] as const,
};

export function useSession() {
  return useQuery({ queryKey: keys.session, queryFn: async () => told(await api.GET("/session")), retry: false, staleTime: 60_000 });
}

export type ListQuery = { archived?: boolean; search?: string; order?: "newest" | "name" | "largest" };

/** useLists gives the lists that are looked for, page after page; the service searches and orders them. */
export function useLists(query: ListQuery = {}) {
  return useInfiniteQuery({
    queryKey: [...keys.lists, query],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) => told(await api.GET("/lists", { params: { query: { ...query, cursor: pageParam, limit: 50 } } })),
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
    select: (pages) => pages.pages.flatMap((p) => p.items),
    // Somebody may be running one: look again while any is on its way.
    refetchInterval: (q) => (q.state.data?.pages.some((p) => p.items.some((l) => l.lastRun && !l.lastRun.finishedAt)) ? 2000 : false),
  });
}

export function useList(id: number) {
  return useQuery({ queryKey: keys.list(id), queryFn: async () => told(await api.GET("/lists/{id}", { params: { path: { id } } })), enabled: id > 0 });
}

/**
 * useRun gives a run and keeps it up to date: by its event stream until it ends, and by a look now and then afterwards,
 * for somebody may ask again about some of it.
 */
export function useRun(id: number) {
  const client = useQueryClient();
  const query = useQuery({ queryKey: keys.run(id), queryFn: async () => told(await api.GET("/runs/{id}", { params: { path: { id } } })),
    refetchInterval: (q) => (q.state.data?.finishedAt ? 3000 : false) });
  const ended = query.data?.finishedAt !== undefined;
  useEffect(() => {
    if (ended) return;
    const events = new EventSource(`/api/v1/runs/${id}/events`);
    const seen = (e: MessageEvent<string>) => client.setQueryData(keys.run(id), JSON.parse(e.data) as Run);
    events.addEventListener("run", seen);
    return () => events.close();
  }, [id, ended, client]);
  return query;
}

export function usePolicies() {
  return useQuery({ queryKey: keys.policies, queryFn: async () => items(await api.GET("/policies")) });
}

/** useWords gives the registry: all causes and traits with their words. */
export function useWords() {
  return useQuery({ queryKey: ["glossary"], queryFn: async () => told(await api.GET("/glossary")), staleTime: Infinity });
}

/** useSettled gives a value once it has stayed as it is for so many milliseconds. */
export function useSettled<T>(value: T, after: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), after);
    return () => clearTimeout(timer);
  }, [value, after]);
  return settled;
}
