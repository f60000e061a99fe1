import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, told } from "./client";
import type { components } from "./contract.gen";

type Schemas = components["schemas"];
export type SendingSide = Schemas["Sending"];
export type Part = Schemas["SendingPart"];
export type Rule = Schemas["Rule"];

const key = ["sending"] as const;

/** useSending gives the outbound side; routes that rest come back by themselves, so it is looked at again now and then. */
export function useSending() {
  return useQuery({ queryKey: key, queryFn: async () => told(await api.GET("/sending")), refetchInterval: 10_000 });
}

/** useStanding tells whether outbound is ready. */
export function useStanding() {
  return useQuery({ queryKey: ["standing"], queryFn: async () => told(await api.GET("/sending/standing")), staleTime: 10_000 });
}

type Kind = Part["kind"];
const changes = {
  test: async (_: undefined) => told(await api.POST("/sending/test")),
  add: async (body: { kind: Kind; lines: string }) => told(await api.POST("/sending/parts", { body })),
  remove: async (id: number) => told(await api.DELETE("/sending/parts/{id}", { params: { path: { id } } })),
  removeFailed: async (kind: Kind) => told(await api.POST("/sending/parts/remove-failed", { params: { query: { kind } } })),
  rules: async (rules: Rule[]) => told(await api.PUT("/sending/rules", { body: { rules } })),
  cap: async (cap: number) => told(await api.PUT("/sending/settings", { body: { cap } })),
  forget: async (name: string) => told(await api.DELETE("/sending/operators/{name}", { params: { path: { name } } })),
};

/** useSendingChange makes one kind of change; all that shows the outbound side follows. */
export function useSendingChange<K extends keyof typeof changes>(what: K) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: changes[what] as (input: Parameters<(typeof changes)[K]>[0]) => Promise<unknown>,
    onSuccess: () => Promise.all([key, ["standing"], ["operators"]].map((queryKey) => client.invalidateQueries({ queryKey }))),
  });
}
