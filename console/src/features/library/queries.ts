import { useQuery } from "@tanstack/react-query";

import { api, value } from "../../api/client";
import { everyRow, useRows } from "../../api/pages";

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
  useRows(["files", query], (after) => api.GET("/api/files", { params: { query: { ...query, after } } }));

/** All files of the library, to choose from. */
export const useEveryFile = () =>
  useQuery({
    queryKey: ["files", "every"],
    queryFn: () => everyRow((after) => api.GET("/api/files", { params: { query: { limit: 1000, after } } })),
  });

/** How many files there are, and what they can be searched by. */
export const useLibrary = () => useQuery({ queryKey: ["files", "library"], queryFn: () => value(api.GET("/api/library")) });

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
  useQuery({ queryKey: ["files", "folders"], queryFn: () => everyRow((after) => api.GET("/api/folders", { params: { query: { after } } })) });

/** Files that are being read now, and how far each is. */
export const useArrivals = () =>
  useQuery({
    queryKey: ["arrivals"],
    queryFn: () => value(api.GET("/api/arrivals")),
    refetchInterval: (query) => (query.state.data?.length ? 700 : false),
  });

export const useParts = () => useRows(["parts", "list"], (after) => api.GET("/api/parts", { params: { query: { after } } }));

/** All parts, to choose from. */
export const useEveryPart = () =>
  useQuery({
    queryKey: ["parts", "every"],
    queryFn: () => everyRow((after) => api.GET("/api/parts", { params: { query: { limit: 1000, after } } })),
  });

export const usePart = (which: string) =>
  useQuery({
    queryKey: ["parts", which],
    queryFn: () => value(api.GET("/api/parts/{which}", { params: { path: { which } } })),
  });

export const useSuggestions = () =>
  useQuery({ queryKey: ["parts", "suggestions"], queryFn: () => value(api.GET("/api/parts/suggestions")) });
