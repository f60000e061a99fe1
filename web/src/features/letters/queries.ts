import { useQuery } from "@tanstack/react-query";
import { api, told } from "../../api/client";

/** useLetters reports whether and by which server letters are sent. */
export function useLetters() {
  return useQuery({ queryKey: ["letters"], queryFn: async () => told(await api.GET("/letters")) });
}
