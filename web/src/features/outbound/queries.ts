import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, items, told } from "../../api/client";
import type { components } from "../../api/contract.gen";

type Schemas = components["schemas"];
export type SendingSide = Schemas["Outbound"];
export type Part = Schemas["OutboundPart"];
export type Rule = Schemas["Rule"];
export type SaidRule = Schemas["SaidRule"];

const key = ["outbound"] as const;

/** useOutbound returns the outbound side; routes that rest come back by themselves, so it is looked at again now and then. */
export function useOutbound() {
  return useQuery({ queryKey: key, queryFn: async () => told(await api.GET("/outbound")), refetchInterval: 10_000 });
}

/** useReadiness reports whether outbound is ready. */
export function useReadiness() {
  return useQuery({
    queryKey: ["readiness"],
    queryFn: async () => told(await api.GET("/outbound/readiness")),
    staleTime: 10_000,
  });
}

/** useOwnRules returns the rules of the workspace. */
export function useOwnRules() {
  return useQuery({ queryKey: ["own-rules"], queryFn: async () => items(await api.GET("/rules")) });
}

type Kind = Part["kind"];
const changes = {
  test: async (_: undefined) => told(await api.POST("/outbound/test")),
  add: async (body: { kind: Kind; lines: string }) => told(await api.POST("/outbound/parts", { body })),
  remove: async (id: number) => told(await api.DELETE("/outbound/parts/{id}", { params: { path: { id } } })),
  removeFailed: async (kind: Kind) =>
    told(await api.POST("/outbound/parts/remove-failed", { params: { query: { kind } } })),
  rules: async (rules: Rule[]) => told(await api.PUT("/outbound/rules", { body: { rules } })),
  cap: async (cap: number) => told(await api.PUT("/outbound/settings", { body: { cap } })),
  forget: async (name: string) => told(await api.DELETE("/outbound/operators/{name}", { params: { path: { name } } })),
};

/** useOutboundChange makes one kind of change; all that shows the outbound side follows. */
export function useOutboundChange<K extends keyof typeof changes>(what: K) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: changes[what] as (input: Parameters<(typeof changes)[K]>[0]) => Promise<unknown>,
    onSuccess: () =>
      Promise.all([key, ["readiness"], ["operators"]].map((queryKey) => client.invalidateQueries({ queryKey }))),
  });
}
