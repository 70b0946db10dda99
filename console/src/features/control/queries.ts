import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

/** What hands changed of a build. */
export const useChanges = (number: number | undefined) =>
  useQuery({
    enabled: number !== undefined,
    queryKey: ["changes", number],
    queryFn: () => value(api.GET("/api/builds/{number}/changes", { params: { path: { number: number ?? 0 } } })),
  });

export const useLevelMaps = (name: string) =>
  useQuery({
    queryKey: ["level", name],
    queryFn: () => value(api.GET("/api/machines/{name}/level-maps", { params: { path: { name }, query: { limit: 12 } } })),
  });
