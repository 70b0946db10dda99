import { useQuery } from "@tanstack/react-query";

import type { components } from "../../api/schema";
import { api, value } from "../../api/client";
import { useRows } from "../../api/pages";

export type DueTask = components["schemas"]["DueTask"];
export type UpkeepTask = components["schemas"]["UpkeepTask"];
export type UpkeepDone = components["schemas"]["UpkeepDone"];
export type Trend = components["schemas"]["CalibrationTrend"];
export type FittedPart = components["schemas"]["FittedPart"];
export type FleetOfModel = components["schemas"]["FleetOfModel"];
export type UpkeepLogEntry = components["schemas"]["UpkeepLogEntry"];

/** Spans in which machines are kept free, from now on. */
export const useUpkeep = () =>
  useQuery({ queryKey: ["setup", "upkeep"], queryFn: () => value(api.GET("/api/upkeep-windows")), refetchInterval: 60_000 });

/** How near each task is to being due, at all machines or one. */
export const useDue = (machine = "") =>
  useQuery({ queryKey: ["upkeep", "due", machine], queryFn: () => value(api.GET("/api/upkeep/due", { params: { query: { machine } } })), refetchInterval: 15_000 });

export const useUpkeepTasks = () => useQuery({ queryKey: ["upkeep", "tasks"], queryFn: () => value(api.GET("/api/upkeep/tasks")) });

export const useTrends = (machine = "") =>
  useQuery({ queryKey: ["upkeep", "calibration", machine], queryFn: () => value(api.GET("/api/upkeep/calibration", { params: { query: { machine } } })) });

export const useParts = (machine = "") =>
  useQuery({ queryKey: ["upkeep", "parts", machine], queryFn: () => value(api.GET("/api/upkeep/parts", { params: { query: { machine } } })) });

export const useLateness = () => useQuery({ queryKey: ["upkeep", "lateness"], queryFn: () => value(api.GET("/api/upkeep/lateness")) });

export const useUpkeepLog = (machine: string) =>
  useRows(["upkeep", "log", machine], (after) => api.GET("/api/upkeep/log", { params: { query: { machine, after } } }));

export const useFleetState = () => useQuery({ queryKey: ["machine", "fleet-state"], queryFn: () => value(api.GET("/api/fleet-state")) });
