import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { api, type Material, value } from "../../api/client";
import { useLive } from "../../api/live";
import { grams } from "../../ui/format";

/** All machines; kept fresh by the live stream. */
export const useMachines = () =>
  useQuery({ queryKey: ["machines"], queryFn: () => value(api.GET("/api/machines")), staleTime: Infinity });

export const useMachine = (name: string) =>
  useQuery({
    enabled: name !== "",
    queryKey: ["machine", name],
    queryFn: () => value(api.GET("/api/machines/{name}", { params: { path: { name } } })),
  });

/** A machine's page of facts, with what the live stream says of it laid over them. */
export function useMachineNow(name: string) {
  const detail = useMachine(name);
  const live = useMachines().data?.find((m) => m.name.toLowerCase() === name.toLowerCase());
  return { error: detail.error, again: detail.refetch, data: detail.data && { ...detail.data, ...live } };
}

export const useSpools = () => useQuery({ queryKey: ["setup", "spools"], queryFn: () => value(api.GET("/api/spools")) });

export const useModels = () =>
  useQuery({ queryKey: ["models"], queryFn: () => value(api.GET("/api/models")), staleTime: 60_000 });

/** What is printed with, and whether its figures are the shop's own. */
export const useMaterials = () =>
  useQuery({ queryKey: ["materials"], queryFn: async () => (await value(api.GET("/api/materials"))) as { material: Material; own: boolean }[], staleTime: 60_000 });

/** Says what a length (mm) of a material weighs; one that is not known is taken for PLA. */
export function useGrams() {
  const materials = useMaterials().data ?? [];
  return (mm: number, name = "PLA") => {
    const known = (wanted: string) => materials.find(({ material }) => material.name.toLowerCase() === wanted.toLowerCase())?.material;
    const of = known(name) ?? known("PLA");
    return grams(mm, of?.density_g_cm3 ?? 1.24, of?.diameter_mm ?? 1.75);
  };
}

/** The tenders that are known, and since when each is here. */
export const useTenders = () =>
  useQuery({ queryKey: ["tenders"], queryFn: async () => (await value(api.GET("/api/health"))).tenders });

/** Machines by what they are, to begin a model from. */
export const useReferenceModels = () =>
  useQuery({ queryKey: ["models", "reference"], queryFn: () => value(api.GET("/api/models/reference")), staleTime: Infinity });

/** A span of shop time, ISO. */
export interface Span {
  begin: string;
  end: string;
}

/** Heat of the last so many hours, renewed as time passes; or of a span, which does not change any more; of nothing with null. */
export function useHeat(machine: string, of: number | Span | null) {
  const { now, heard } = useLive();
  const last = typeof of === "number";
  return useQuery({
    enabled: heard && of !== null,
    queryKey: ["heat", machine, of],
    queryFn: () => {
      const span = last ? { begin: new Date(now().getTime() - of * 3600_000).toISOString() } : of!;
      return value(api.GET("/api/machines/{name}/heat", { params: { path: { name: machine }, query: span } }));
    },
    placeholderData: keepPreviousData,
    refetchInterval: last ? (of > 24 ? 30_000 : 4_000) : false,
    staleTime: last ? 0 : Infinity,
  });
}
