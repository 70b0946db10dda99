import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export const useJobs = (ended: boolean) =>
  useQuery({
    queryKey: ["jobs", ended],
    queryFn: () => value(api.GET("/api/jobs", { params: { query: { ended } } })),
    refetchInterval: 10_000,
  });

/** The line, with the version that a move must name. */
export const useQueue = () =>
  useQuery({
    queryKey: ["jobs", "line"],
    queryFn: () => value(api.GET("/api/queue")),
    refetchInterval: 10_000,
  });

export const useOrders = (ended = false) =>
  useQuery({
    queryKey: ["orders", ended],
    queryFn: () => value(api.GET("/api/orders", { params: { query: { ended } } })),
    refetchInterval: 10_000,
  });

export const useOrder = (number: number) =>
  useQuery({
    queryKey: ["orders", "one", number],
    queryFn: () => value(api.GET("/api/orders/{number}", { params: { path: { number } } })),
    refetchInterval: 10_000,
  });

export const useStock = () => useQuery({ queryKey: ["orders", "stock"], queryFn: () => value(api.GET("/api/stock")) });

export const useBuilds = (machine: string) =>
  useQuery({
    queryKey: ["builds", machine],
    queryFn: () => value(api.GET("/api/builds", { params: { query: { machine, limit: 12 } } })),
  });

/** One build; what it is made from does not change. */
export const useBuild = (number: number | undefined) =>
  useQuery({
    enabled: number !== undefined,
    queryKey: ["build", number],
    queryFn: () => value(api.GET("/api/builds/{number}", { params: { path: { number: number ?? 0 } } })),
    staleTime: Infinity,
  });
