import { useQuery } from "@tanstack/react-query";
import { api, items, type Schema, told } from "../../api/client";

export type Allowance = Schema<"Allowance">;
export type Purchase = Schema<"Purchase">;
export type Plan = Schema<"AllowancePlan">;
export type Account = Schema<"Account">;

export const useAllowance = () =>
  useQuery({ queryKey: ["allowance"], queryFn: async () => told(await api.GET("/allowance")) });

export const usePurchases = () =>
  useQuery({
    queryKey: ["purchases"],
    queryFn: async () => items(await api.GET("/purchases", { params: { query: { limit: 100 } } })),
    // Its state changes by calls of the provider, which come within seconds.
    refetchInterval: (q) => (q.state.data?.some((p) => p.state === "open") ? 2000 : false),
  });

export const usePlans = () =>
  useQuery({ queryKey: ["plans"], queryFn: async () => items(await api.GET("/installation/plans")) });

export const useAccounts = () =>
  useQuery({ queryKey: ["accounts"], queryFn: async () => items(await api.GET("/installation/accounts")) });

export const useBilling = () =>
  useQuery({ queryKey: ["billing"], queryFn: async () => told(await api.GET("/installation/billing")) });

/** money writes an amount in the smallest unit of a currency. */
export function money(currency: string, digits: number, amount: number): string {
  return `${currency} ${(amount / 10 ** digits).toLocaleString(undefined, { minimumFractionDigits: digits, maximumFractionDigits: digits })}`;
}
