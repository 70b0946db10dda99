import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { api, type FailureMode, type Follow, value, type WatchRule } from "../../api/client";

type Kind = { mode: FailureMode; name: string; says: string; ofObject: boolean };

/** What the watch may suspect, as people say it, and whether one object can be left out for it. */
export const KINDS: Kind[] = [
  { mode: "loose", name: "Loose", says: "an object is not where it was laid", ofObject: true },
  { mode: "tangle", name: "Tangle", says: "material where none should be", ofObject: true },
  { mode: "fallen", name: "Fallen", says: "an object lies on its side", ofObject: true },
  { mode: "shifted", name: "Shifted", says: "layers do not stand over each other", ofObject: false },
  { mode: "not-growing", name: "Not growing", says: "no material comes out", ofObject: false },
  { mode: "blob", name: "Blob", says: "material gathers at the nozzle", ofObject: false },
  { mode: "not-clear", name: "Bed not clear", says: "something lies on the bed before a start", ofObject: false },
];

/** Those that are suspected of builds under way. */
export const OF_BUILDS = KINDS.filter((k) => k.mode !== "not-clear");

const FOLLOWS: Record<Follow, string> = {
  nothing: "nothing",
  tell: "people are told",
  "leave-out": "leave that object out",
  pause: "pause the build",
};

/** What may follow of a kind, in words. A bed before a start has no build that could be paused. */
export const mayFollow = (kind: Kind): [Follow, string][] =>
  (Object.keys(FOLLOWS) as Follow[])
    .filter((f) => f !== "leave-out" || kind.ofObject)
    .map((f) => [f, f === "pause" && kind.mode === "not-clear" ? "it takes no work" : FOLLOWS[f]]);

/** What follows of a kind. */
export const followOf = (rule: WatchRule, mode: FailureMode): Follow =>
  (rule.follow as Partial<Record<FailureMode, Follow>> | undefined)?.[mode] ?? (mode === "not-clear" ? "pause" : "tell");

/** What is suspected of a machine and is neither over nor answered. */
export const useOpenSuspicions = (machine: string) =>
  useQuery({
    queryKey: ["suspicions", "open", machine],
    queryFn: () => value(api.GET("/api/suspicions", { params: { query: { machine, open: true } } })),
  });

/** What was suspected of a build. */
export const useBuildSuspicions = (build: number | undefined) =>
  useQuery({
    enabled: build !== undefined,
    queryKey: ["suspicions", "build", build],
    queryFn: () => value(api.GET("/api/suspicions", { params: { query: { build } } })),
  });

export const useWatchStanding = () =>
  useQuery({ queryKey: ["watch", "standing"], queryFn: () => value(api.GET("/api/watch")), refetchInterval: 5000 });

/** The measured curve, and what would be chosen for so many false alarms a week; without a number, what is chosen. */
export const useWatchCurve = (perWeek?: number) =>
  useQuery({
    queryKey: ["watch", "curve", perWeek],
    queryFn: () => value(api.GET("/api/watch/curve", { params: { query: { false_alarms_a_week: perWeek } } })),
    placeholderData: keepPreviousData,
  });

export const useWatchRules = () => useQuery({ queryKey: ["watch", "rules"], queryFn: () => value(api.GET("/api/watch-rules")) });

export const useWatchRule = (scope: "shop" | "machine" | "job", subject: string) =>
  useQuery({
    queryKey: ["watch", "rule", scope, subject],
    queryFn: () => value(api.GET("/api/watch-rules/{scope}/{subject}", { params: { path: { scope, subject } } })),
  });

export const useBedSight = (camera: string) =>
  useQuery({
    queryKey: ["watch", "bed", camera],
    queryFn: () => value(api.GET("/api/cameras/{name}/bed", { params: { path: { name: camera } } })),
    retry: false,
  });
