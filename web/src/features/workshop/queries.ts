import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Schema, told } from "../../api/client";
import { saved } from "../../api/saved";
import type { Made, Step } from "./steps";

type Job = Schema<"WorkshopJob">;

const later = (ms: number) => new Promise((done) => setTimeout(done, ms));

/** ended waits for a job to end. */
async function ended(j: Job, seen: (j: Job) => void = () => {}): Promise<Job> {
  let now = j;
  while (now.state === "working") {
    seen(now);
    await later(500);
    now = told(await api.GET("/workshop-jobs/{id}", { params: { path: { id: now.id } } }));
  }
  return now;
}

const begin = async (made: Made, name: string, dryRun: boolean) =>
  told(await api.POST("/workshop-jobs", { body: { ...made, name, dryRun } }));

/** useLook says what would be made, without making it. */
export function useLook(made: Made, ready: boolean) {
  return useQuery({
    queryKey: ["workshop", made],
    queryFn: async () => ended(await begin(made, "", true)),
    enabled: ready && made.listId > 0,
    placeholderData: keepPreviousData,
    retry: false,
  });
}

/** useMake makes the lists. */
export function useMake(seen: (j: Job) => void) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: async ({ made, name }: { made: Made; name: string }) => ended(await begin(made, name, false), seen),
    onSuccess: () => void client.invalidateQueries({ queryKey: ["lists"] }),
  });
}

/** useFile writes a file of what is made. */
export const useFile = () =>
  useMutation({
    mutationFn: async (made: Made) => {
      const answer = await api.POST("/workshop-files", {
        params: { query: { format: "original" } },
        body: { listId: made.listId, steps: made.steps },
        parseAs: "blob",
      });
      saved(told(answer) as unknown as Blob, "workshop.csv");
    },
  });

export const useRecipes = () =>
  useQuery({ queryKey: ["step-recipes"], queryFn: async () => told(await api.GET("/step-recipes")).items });

export const useTermLists = () =>
  useQuery({ queryKey: ["term-lists"], queryFn: async () => told(await api.GET("/term-lists")).items });

/** useSaved changes what is saved, and reads it again. */
export function useSaved<Input>(key: "step-recipes" | "term-lists", change: (input: Input) => Promise<unknown>) {
  const client = useQueryClient();
  return useMutation({ mutationFn: change, onSuccess: () => client.invalidateQueries({ queryKey: [key] }) });
}

export const saveRecipe = async (r: { name: string; steps: Step[] }) =>
  told(await api.PUT("/step-recipes", { body: r }));

export const saveTerms = async (t: { name: string; terms: string[] }) =>
  told(await api.PUT("/term-lists", { body: t }));
