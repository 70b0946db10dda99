import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

/** Spans in which machines are kept free, from now on. */
export const useUpkeep = () =>
  useQuery({ queryKey: ["setup", "upkeep"], queryFn: () => value(api.GET("/api/upkeep-windows")), refetchInterval: 60_000 });
