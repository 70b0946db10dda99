import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

/** All cameras; the live stream tells when one begins or ceases to give pictures. */
export const useCameras = () =>
  useQuery({ queryKey: ["cameras"], queryFn: () => value(api.GET("/api/cameras")), staleTime: Infinity });

export const useCamera = (name: string) => {
  const all = useCameras();
  return { ...all, data: all.data?.find((c) => c.name.toLowerCase() === name.toLowerCase()) };
};

export const useCameraWork = () =>
  useQuery({ queryKey: ["camera-work"], queryFn: () => value(api.GET("/api/camera-work")), refetchInterval: 5000 });

export const useWatching = () => useQuery({ queryKey: ["watching"], queryFn: () => value(api.GET("/api/watching")) });
