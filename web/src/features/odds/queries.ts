import { useQuery } from "@tanstack/react-query";
import { api, told } from "../../api/client";

export const useOdds = () => useQuery({ queryKey: ["odds"], queryFn: async () => told(await api.GET("/odds")) });
