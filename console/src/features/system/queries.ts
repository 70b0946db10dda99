import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export const useShop = () =>
  useQuery({ queryKey: ["shop"], queryFn: () => value(api.GET("/api/shop")), staleTime: Infinity });

/** What heat over time takes in the database, and what it comes to. */
export const useHeatStanding = () => useQuery({ queryKey: ["heat-standing"], queryFn: () => value(api.GET("/api/heat/standing")) });
