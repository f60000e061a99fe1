import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { api, items, type List, type Run, type Schema, told } from "./client";
import { atOnce } from "./early";

export const keys = {
  session: ["session"] as const,
  lists: ["lists"] as const,
  list: (id: number) => ["list", id] as const,
  run: (id: number) => ["run", id] as const,
  policies: ["policies"] as const,
  notices: ["notices"] as const,
};

export function useSession() {
  return useQuery({
    queryKey: keys.session,
    queryFn: async () => told(await api.GET("/session")),
    ...atOnce<Schema<"Session">>("/session"),
    retry: false,
    staleTime: 60_000,
  });
}

export type ListQuery = { archived?: boolean; search?: string; order?: "newest" | "name" | "largest" };

/** useLists returns the lists that are looked for, page after page; the service searches and orders them. */
export function useLists(query: ListQuery = {}) {
  return useInfiniteQuery({
    queryKey: [...keys.lists, query],
    initialPageParam: undefined as string | undefined,
    queryFn: async ({ pageParam }) =>
      told(await api.GET("/lists", { params: { query: { ...query, cursor: pageParam, limit: 50 } } })),
    getNextPageParam: (last) => last.next,
    placeholderData: keepPreviousData,
    select: (pages) => pages.pages.flatMap((p) => p.items),
  });
}

export function useList(id: number) {
  return useQuery({
    queryKey: keys.list(id),
    queryFn: async () => told(await api.GET("/lists/{id}", { params: { path: { id } } })),
    ...atOnce<List>(`/lists/${id}`),
    enabled: id > 0,
  });
}

export function useRun(id: number) {
  return useQuery({
    queryKey: keys.run(id),
    queryFn: async () => told(await api.GET("/runs/{id}", { params: { path: { id } } })),
    ...atOnce<Run>(`/runs/${id}`),
  });
}

export function usePolicies() {
  return useQuery({ queryKey: keys.policies, queryFn: async () => items(await api.GET("/policies")) });
}

/** useWords returns the registry: all causes and traits with their words. */
export function useWords() {
  return useQuery({
    queryKey: ["glossary"],
    queryFn: async () => told(await api.GET("/glossary")),
    staleTime: Infinity,
  });
}

/** useSettled returns a value once it has stayed as it is for so many milliseconds. */
export function useSettled<T>(value: T, after: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), after);
    return () => clearTimeout(timer);
  }, [value, after]);
  return settled;
}
