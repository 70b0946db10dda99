import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";
import { everyRow, usePages, useRows } from "../../api/pages";

/** All jobs there ever were, the newest first. */
export const useEveryJob = (search = "") =>
  useRows(
    ["jobs", "ended", search],
    (after) => api.GET("/api/jobs", { params: { query: { search, ended: true, newest: true, after } } }),
    10_000,
  );

/** The line, with the version that a move must name. */
export function useQueue(search = "") {
  const { data, ...rest } = usePages(
    ["jobs", "line", search],
    (after) => api.GET("/api/queue", { params: { query: { search, after } } }),
    10_000,
  );
  const first = data?.pages[0]?.rows;
  return { ...rest, data: first && { ...first, jobs: data.pages.flatMap((p) => p.rows.jobs) } };
}

export const useOrders = (ended = false) =>
  useRows(["orders", "list", ended], (after) => api.GET("/api/orders", { params: { query: { ended, after } } }), 10_000);

/** All orders that are not complete, to pick from. */
export const useOpenOrders = () =>
  useQuery({ queryKey: ["orders", "open"], queryFn: () => everyRow((after) => api.GET("/api/orders", { params: { query: { after, limit: 200 } } })) });

export const useOrder = (number: number) =>
  useQuery({
    queryKey: ["orders", "one", number],
    queryFn: () => value(api.GET("/api/orders/{number}", { params: { path: { number } } })),
    refetchInterval: 10_000,
  });

export const useStock = () => useQuery({ queryKey: ["orders", "stock"], queryFn: () => everyRow((after) => api.GET("/api/stock", { params: { query: { after } } })) });

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
