import { useQuery } from "@tanstack/react-query";
import { api, items, type Schema, told } from "../../api/client";

export const connectionKeys = {
  all: ["connections"] as const,
  one: (id: number) => ["connection", id] as const,
  imports: (id: number) => ["imports", id] as const,
  writeBacks: (of: { run?: number; connection?: number }) => ["write-backs", of] as const,
  writeBack: (id: number) => ["write-back", id] as const,
};

/** useKinds returns the kinds of places that connections lead to. */
export function useKinds() {
  return useQuery({
    queryKey: ["connection-kinds"],
    queryFn: async () => items(await api.GET("/connection-kinds")),
    staleTime: Infinity,
  });
}

/** useConnections returns the connections of the workspace. */
export function useConnections() {
  return useQuery({ queryKey: connectionKeys.all, queryFn: async () => items(await api.GET("/connections")) });
}

export function useConnection(id: number) {
  return useQuery({
    queryKey: connectionKeys.one(id),
    enabled: id > 0,
    queryFn: async () => told(await api.GET("/connections/{id}", { params: { path: { id } } })),
  });
}

/** useCollections asks the place what it offers. */
export function useCollections(id: number, enabled = true) {
  return useQuery({
    queryKey: ["collections", id],
    enabled: enabled && id > 0,
    retry: false,
    queryFn: async () => items(await api.GET("/connections/{id}/collections", { params: { path: { id } } })),
  });
}

export function useImports(id: number) {
  return useQuery({
    queryKey: connectionKeys.imports(id),
    queryFn: async () => items(await api.GET("/connections/{id}/imports", { params: { path: { id } } })),
  });
}

export function useWriteBacks(of: { run?: number; connection?: number }) {
  return useQuery({
    queryKey: connectionKeys.writeBacks(of),
    queryFn: async () => items(await api.GET("/write-backs", { params: { query: of } })),
  });
}

export function useWriteBack(id: number) {
  return useQuery({
    queryKey: connectionKeys.writeBack(id),
    queryFn: async () => told(await api.GET("/write-backs/{id}", { params: { path: { id } } })),
    // The change stream tells of its end; how far it has come is asked for.
    refetchInterval: (q) => (q.state.data?.endedAt ? false : 2000),
  });
}

/** acts are what can be written back, in words. */
export const acts: Record<Schema<"WriteBackStep">["act"], string> = {
  collection: "put them into a collection",
  field: "set a field",
  tag: "put a tag on them",
  suppress: "put them on the suppression list",
  disable: "stop delivery to them",
  remove: "take them out of the collection",
  file: "write them to a file",
};
