import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export const useShop = () =>
  useQuery({ queryKey: ["shop"], queryFn: () => value(api.GET("/api/shop")), staleTime: Infinity });

/** What a new shop still wants; for who sets up the shop. */
export const useFirstSteps = () => useQuery({ queryKey: ["first-steps"], queryFn: () => value(api.GET("/api/first-steps")), retry: false });

/** What takes the disk. */
export const useStorage = () => useQuery({ queryKey: ["storage"], queryFn: () => value(api.GET("/api/storage")), refetchInterval: 60_000 });

/** Where backups go and when, those there are, and what is under way: each second while something is, now and then otherwise, as one
 * begins by itself when it is due. */
export const useBackups = () =>
  useQuery({
    queryKey: ["backups"],
    queryFn: () => value(api.GET("/api/backups")),
    refetchInterval: (query) => (query.state.data?.work ? 1000 : 15_000),
  });
