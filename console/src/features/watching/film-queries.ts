import { keepPreviousData, useQuery } from "@tanstack/react-query";

import { api, type Film, type FilmSettings, type HeadAway, value } from "../../api/client";
import { everyRow, useRows } from "../../api/pages";

export interface FilmFilter {
  search?: string;
  machine?: string;
  build?: number;
  file?: number;
  part?: number;
  /** Only of builds that have ended. */
  ended?: boolean;
}

const BUSY = new Set<Film["state"]>(["making", "waiting"]);
/** Whether a film is on its way, so that its progress is worth asking for. */
export const isBusy = (film: Film) => BUSY.has(film.state);

/** Films, newest first; asked for again and again while one is being made. */
export const useFilms = (query: FilmFilter, watched = false) =>
  useRows(["films", query], (after) => api.GET("/api/films", { params: { query: { ...query, after } } }), watched ? 1500 : false);

/** All films of a part, a file or a build, to choose from. */
export const useEveryFilm = (query: FilmFilter) =>
  useQuery({
    enabled: Object.values(query).some(Boolean),
    queryKey: ["films", "every", query],
    queryFn: () => everyRow<Film>((after) => api.GET("/api/films", { params: { query: { ...query, limit: 1000, after } } })),
    refetchInterval: (q) => (q.state.data?.some(isBusy) ? 1500 : false),
  });

export const useFilm = (number: number | undefined) =>
  useQuery({
    enabled: number !== undefined,
    queryKey: ["films", "one", number],
    queryFn: () => value(api.GET("/api/films/{number}", { params: { path: { number: number ?? 0 } } })),
    refetchInterval: (q) => (q.state.data && isBusy(q.state.data) ? 1000 : false),
  });

export const useFilmStanding = () =>
  useQuery({ queryKey: ["films", "standing"], queryFn: () => value(api.GET("/api/films/standing")) });

export type FilmScope = "job" | "order" | "file" | "machine" | "shop";

export const useFilmRules = () => useQuery({ queryKey: ["film-rules"], queryFn: () => value(api.GET("/api/film-rules")) });

export const useFilmRule = (scope: FilmScope, subject: string) =>
  useQuery({
    queryKey: ["film-rules", scope, subject],
    queryFn: () => value(api.GET("/api/film-rules/{scope}/{subject}", { params: { path: { scope, subject } } })),
  });

/** The head out of the picture, as it is at first. */
export const HEAD_AWAY: HeadAway = { least_layer_s: 15, settle_s: 0.3, retract_mm: 2, prime_mm: 2 };

/** What taking the head out of the picture would come to in a file. */
export const useHeadAway = (sha256: string | undefined, model: string, away: HeadAway | null | undefined) =>
  useQuery({
    enabled: Boolean(sha256 && away),
    queryKey: ["head-away", sha256, model, away],
    queryFn: () => value(api.GET("/api/contents/{sha256}/head-away", { params: { path: { sha256: sha256 ?? "" }, query: { model, ...away } } })),
    placeholderData: keepPreviousData,
    staleTime: Infinity,
  });

/** How a film is made, in a few words. */
export function filmWords(s: FilmSettings): string {
  if (!s.make) return "no film";
  const frames = s.by === "time" ? `a frame every ${s.every_s} s` : (s.per_layer ?? 1) > 1 ? `${s.per_layer} frames a layer` : "one frame a layer";
  return [
    frames,
    s.length_s ? `${s.length_s} s long` : `${s.fps} a second`,
    (s.first_layer ?? 1) > 1 || s.last_layer ? `layers ${s.first_layer} to ${s.last_layer || "the last"}` : "",
    s.form === "mp4" ? "MP4" : "WebM",
    s.head_away ? "head out of the picture" : "",
  ]
    .filter(Boolean)
    .join(", ");
}
