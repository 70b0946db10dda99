import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

/** What a content says for a model. */
export const useReading = (sha256: string | undefined, model: string) =>
  useQuery({
    enabled: sha256 !== undefined,
    queryKey: ["reading", sha256, model],
    queryFn: () =>
      value(
        api.GET("/api/contents/{sha256}/reading", { params: { path: { sha256: sha256 ?? "" }, query: { model } } }),
      ),
    staleTime: Infinity,
  });
