import { useQuery } from "@tanstack/react-query";
import { api, told, type Run, type Schema } from "../../api/client";
import type { Filter } from "./filter";

/** useFitting counts what fits a filter, and what would if one part of it were another. */
export function useFitting(run: Run, filter: Filter) {
  return useQuery({
    queryKey: ["fitting", run.id, filter, run.finishedAt ?? "live"],
    placeholderData: (old: Schema<"Fitting"> | undefined) => old,
    queryFn: async () => told(await api.GET("/runs/{id}/fitting", { params: { path: { id: run.id }, query: filter } })),
    refetchInterval: run.finishedAt ? false : 10_000,
  });
}
