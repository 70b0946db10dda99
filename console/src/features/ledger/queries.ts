import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";
import { everyRow } from "../../api/pages";
import { useLive } from "../../api/live";

export const useTurnaround = (from: string, to: string) =>
  useQuery({
    queryKey: ["utilisation", "turnaround", from, to],
    queryFn: () => value(api.GET("/api/report/turnaround", { params: { query: { from, to } } })),
    placeholderData: (before) => before,
  });

export const useHistory = (kind: "files" | "parts", which: string) =>
  useQuery({
    queryKey: ["builds", "history", kind, which],
    queryFn: () =>
      kind === "files"
        ? value(api.GET("/api/files/{which}/history", { params: { path: { which } } }))
        : value(api.GET("/api/parts/{which}/history", { params: { path: { which } } })),
  });

export const usePaces = () =>
  useQuery({ queryKey: ["builds", "paces"], queryFn: () => value(api.GET("/api/models/paces")) });

/** The ledger of the last `hours` of shop time, all machines' or one's. */
export function useLedger(hours: number, machine?: string) {
  const { now, heard } = useLive();
  return useQuery({
    enabled: heard,
    queryKey: ["ledger", hours, machine],
    queryFn: () => {
      const begin = new Date(now().getTime() - hours * 3600_000).toISOString();
      return everyRow((after) => api.GET("/api/ledger", { params: { query: { begin, machine, after } } }));
    },
  });
}

export const useUtilisation = (from: string, to: string) =>
  useQuery({
    queryKey: ["utilisation", from, to],
    queryFn: () => value(api.GET("/api/report/utilisation", { params: { query: { from, to } } })),
    placeholderData: (before) => before,
  });
