import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export const useRounds = (site: string | null) =>
  useQuery({
    queryKey: ["plan", "rounds", site],
    queryFn: () => value(api.GET("/api/rounds", { params: { query: site === null ? {} : { site } } })),
    refetchInterval: 5_000,
    placeholderData: (before) => before,
  });

/** Says that somebody looks, now and then; tells what happened while they were away. */
export const useSinceYouLeft = () =>
  useQuery({
    queryKey: ["since"],
    queryFn: () => value(api.POST("/api/me/here")),
    refetchInterval: 60_000,
    refetchIntervalInBackground: false,
  });

export const useHelpers = () => useQuery({ queryKey: ["setup", "helpers"], queryFn: () => value(api.GET("/api/helpers")) });
