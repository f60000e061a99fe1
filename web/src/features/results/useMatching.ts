import { useQuery } from "@tanstack/react-query";
import { api, type Run, type Schema, told } from "../../api/client";
import type { Filter } from "./filter";

/** useMatching counts what fits a filter, and what would if one part of it were another. */
export function useMatching(run: Run, filter: Filter) {
  return useQuery({
    queryKey: ["matching", run.id, filter, run.finishedAt ?? "live"],
    placeholderData: (old: Schema<"Matching"> | undefined) => old,
    queryFn: async () =>
      told(await api.GET("/runs/{id}/matching", { params: { path: { id: run.id }, query: filter } })),
  });
}
