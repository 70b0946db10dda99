import { useQuery } from "@tanstack/react-query";
import { useMemo } from "react";

import type { BuildDot } from "./figure-drawings";
import type { FiguresReport } from "./figure-words";
import { api, CallFailed, value } from "../../api/client";
import { everyRow, useRows } from "../../api/pages";
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

/** What has changed beyond chance, as the last pass found it. */
export const useChangePoints = () => useQuery({ queryKey: ["change-points"], queryFn: () => value(api.GET("/api/report/change-points")) });

export const useWorth = (from: string, to: string) =>
  useQuery({ queryKey: ["worth", from, to], queryFn: () => value(api.GET("/api/report/worth", { params: { query: { from, to } } })), placeholderData: (before) => before });

export const useCostRates = () => useQuery({ queryKey: ["costs", "rates"], queryFn: () => value(api.GET("/api/costs/rates")) });

export const useCostSettings = () => useQuery({ queryKey: ["costs", "settings"], queryFn: () => value(api.GET("/api/costs/settings")) });

export const useBuildCost = (number: number) =>
  useQuery({ queryKey: ["costs", "build", number], queryFn: () => value(api.GET("/api/builds/{number}/cost", { params: { path: { number } } })) });

export const useOrderCost = (number: number) =>
  useQuery({ queryKey: ["costs", "order", number], queryFn: () => value(api.GET("/api/orders/{number}/cost", { params: { path: { number } } })) });

export const usePartCost = (part: number) =>
  useQuery({ queryKey: ["costs", "part", part], queryFn: () => value(api.GET("/api/parts/{which}/cost", { params: { path: { which: String(part) } } })) });

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

/** A build's intervals, and its machine's builds before and after it. */
export const useBuildLife = (number: number) =>
  useQuery({
    queryKey: ["build", number, "life"],
    queryFn: () => value(api.GET("/api/builds/{number}/life", { params: { path: { number } } })),
  });

export interface LayerTime {
  layer: number;
  planned: number;
  took: number | null;
}

/** How long each layer took beside its plan, in s. */
export const useBuildLayers = (number: number, runs: boolean) =>
  useQuery({
    queryKey: ["build", number, "layers"],
    queryFn: async () => {
      const found = await value(api.GET("/api/builds/{number}/layers", { params: { path: { number } } }));
      const layers = found.planned_s.map((planned, n): LayerTime => ({ layer: n + 1, planned, took: found.took_s[n] ?? null }));
      return { layers, pace: found.pace };
    },
    refetchInterval: runs ? 30_000 : false,
  });

export const useMeasures = () =>
  useQuery({ queryKey: ["measures"], queryFn: () => value(api.GET("/api/report/measures")), staleTime: Infinity });

/** Figures, as the page's address asks for them. */
export const useFigures = (asked: Record<string, string>) =>
  useQuery({
    queryKey: ["figures", asked],
    staleTime: 60_000,
    queryFn: () => value(api.GET("/api/report/figures", { params: { query: asked as never } })),
    placeholderData: (before) => before,
    retry: (count, error) => count < 2 && !(error instanceof CallFailed && error.status < 500),
  });

/** The newest builds behind a report, as dots of planned against real. */
export function useBuildDots(report: FiguresReport, wanted: boolean): BuildDot[] {
  const asked = { ...report.total.builds, outcome: "completed", limit: 1000 };
  const found = useQuery({
    enabled: wanted,
    queryKey: ["builds", "dots", asked],
    queryFn: () => value(api.GET("/api/builds", { params: { query: asked as never } })),
    placeholderData: (before) => before,
  });
  return useMemo(
    () =>
      (found.data ?? []).map((b) => ({
        id: b.id,
        machine: b.machine,
        planned_h: b.planned_s / 3600,
        took_h: (b.took_s ?? 0) / 3600,
        good: b.verdict !== "scrap",
      })),
    [found.data],
  );
}

/** Reports that come by themselves, what one would say, and those that came. */
export const useReportPlans = () => useQuery({ queryKey: ["reports", "plans"], queryFn: () => value(api.GET("/api/report/plans")) });

export const useReportPreview = (number: number) =>
  useQuery({ queryKey: ["reports", "preview", number], queryFn: () => value(api.GET("/api/report/plans/{number}/preview", { params: { path: { number } } })), staleTime: Infinity });

export const useKeptReports = () => useRows(["reports", "kept"], (after) => api.GET("/api/report/kept", { params: { query: { after, limit: 30 } } }));

export const useKeptReport = (number: number) =>
  useQuery({ queryKey: ["reports", "kept", number], queryFn: () => value(api.GET("/api/report/kept/{number}", { params: { path: { number } } })) });
