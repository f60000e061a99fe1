import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, told } from "../../api/client";
import { keys } from "../../api/hooks";

/** useWaysIn gives how one may sign in and up here. */
export function useWaysIn() {
  return useQuery({
    queryKey: ["ways-in"],
    queryFn: async () => told(await api.GET("/sign-in")),
    staleTime: 60_000,
  });
}

/** usePerson returns the account of who is signed in. */
export function usePerson() {
  return useQuery({ queryKey: ["person"], queryFn: async () => told(await api.GET("/person")) });
}

/** useRead reads the account again after a change. */
export function useRead() {
  const client = useQueryClient();
  return () => {
    void client.invalidateQueries({ queryKey: ["person"] });
    void client.invalidateQueries({ queryKey: keys.session });
  };
}

/** useInvitation gives what the invitation of a link is to. */
export function useInvitation(invitation: string) {
  return useQuery({
    queryKey: ["invitation", invitation],
    queryFn: async () => told(await api.POST("/invitations/look", { body: { invitation } })),
    enabled: invitation !== "",
    retry: false,
    staleTime: Infinity,
  });
}
