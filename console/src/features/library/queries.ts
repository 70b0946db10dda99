import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";

export interface FileFilter {
  search?: string;
  folder?: string;
  tag?: string;
  material?: string;
  nozzle_mm?: number;
  model?: string;
  least_s?: number;
  most_s?: number;
  least_size?: number;
  binned?: boolean;
}

export const useFiles = (query: FileFilter = {}) =>
  useQuery({
    queryKey: ["files", query],
    queryFn: () => value(api.GET("/api/files", { params: { query } })),
    placeholderData: (before) => before,
  });

export const useFile = (which: string, model: string, revision?: number) =>
  useQuery({
    queryKey: ["files", "one", which, model, revision],
    queryFn: () => value(api.GET("/api/files/{which}", { params: { path: { which }, query: { model, revision } } })),
    placeholderData: (before) => before,
  });

export const useRevisions = (which: string) =>
  useQuery({
    queryKey: ["files", "revisions", which],
    queryFn: () => value(api.GET("/api/files/{which}/revisions", { params: { path: { which } } })),
  });

export const useFolders = () =>
  useQuery({ queryKey: ["files", "folders"], queryFn: () => value(api.GET("/api/folders")) });

/** Files that are being read now, and how far each is. */
export const useArrivals = () =>
  useQuery({
    queryKey: ["arrivals"],
    queryFn: () => value(api.GET("/api/arrivals")),
    refetchInterval: (query) => (query.state.data?.length ? 700 : false),
  });

export const useParts = () => useQuery({ queryKey: ["parts"], queryFn: () => value(api.GET("/api/parts")) });

export const usePart = (which: string) =>
  useQuery({
    queryKey: ["parts", which],
    queryFn: () => value(api.GET("/api/parts/{which}", { params: { path: { which } } })),
  });

export const useSuggestions = () =>
  useQuery({ queryKey: ["parts", "suggestions"], queryFn: () => value(api.GET("/api/parts/suggestions")) });
