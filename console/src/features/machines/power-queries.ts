import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export const usePlugs = () => useQuery({ queryKey: ["plugs"], queryFn: () => value(api.GET("/api/plugs")) });
export const usePlug = (machine: string, has: boolean) =>
  useQuery({ enabled: has, queryKey: ["plugs", machine], queryFn: () => value(api.GET("/api/plugs/{machine}", { params: { path: { machine } } })) });
export const usePlugProfiles = () => useQuery({ queryKey: ["plug-profiles"], queryFn: () => value(api.GET("/api/plug-profiles")) });

interface EnergyOf {
  by: string;
  begin?: string;
  end?: string;
  machine?: string;
  build?: number;
}
export const useEnergy = (query: EnergyOf, asked = true) =>
  useQuery({
    enabled: asked,
    queryKey: ["energy", query],
    queryFn: () => value(api.GET("/api/report/energy", { params: { query } })),
    refetchInterval: 30_000,
  });

export const wh = (value: number) => (value >= 1000 ? `${(value / 1000).toFixed(2)} kWh` : `${value.toFixed(value < 10 ? 1 : 0)} Wh`);
