import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { api, type KeptFrame, value } from "../../api/client";
import { everyRow } from "../../api/pages";

/** All cameras; the live stream tells when one begins or ceases to give pictures. */
export const useCameras = () =>
  useQuery({ queryKey: ["cameras"], queryFn: () => value(api.GET("/api/cameras")), staleTime: Infinity });

export const useCamera = (name: string) => {
  const all = useCameras();
  return { ...all, data: all.data?.find((c) => c.name.toLowerCase() === name.toLowerCase()) };
};

/** The kept frames of a build that one camera took; more come while it runs. */
export const useBuildFrames = (build: number | undefined, camera: string, runs: boolean) =>
  useQuery({
    enabled: build !== undefined && camera !== "",
    queryKey: ["frames", build, camera],
    queryFn: () =>
      everyRow<KeptFrame>((after) =>
        api.GET("/api/builds/{number}/frames", { params: { path: { number: build ?? 0 }, query: { camera, after } } }),
      ),
    refetchInterval: runs ? 3000 : false,
  });

export const useCameraWork = () =>
  useQuery({ queryKey: ["camera-work"], queryFn: () => value(api.GET("/api/camera-work")), refetchInterval: 5000 });

/** What keeping a frame every so many seconds would come to. */
export const useFrameCost = (everyS: number) =>
  useQuery({
    enabled: everyS >= 5 && everyS <= 3600,
    queryKey: ["frame-cost", everyS],
    queryFn: () => value(api.GET("/api/watching/cost", { params: { query: { keep_every_s: everyS } } })),
    placeholderData: keepPreviousData,
  });

export const useWatching = () => useQuery({ queryKey: ["watching"], queryFn: () => value(api.GET("/api/watching")) });
