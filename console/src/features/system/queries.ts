import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export const useShop = () =>
  useQuery({ queryKey: ["shop"], queryFn: () => value(api.GET("/api/shop")), staleTime: Infinity });
