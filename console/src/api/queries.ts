import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, setCsrf, value } from "./client";
import { useLive } from "./live";

/** Who is signed in; fails with status 401 when nobody is. */
export function useMe() {
  return useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      const me = await value(api.GET("/api/me"));
      setCsrf(me.csrf ?? "");
      return me;
    },
    retry: false,
    staleTime: Infinity,
  });
}

/** All machines; kept fresh by the live stream. */
export const useMachines = () =>
  useQuery({ queryKey: ["machines"], queryFn: () => value(api.GET("/api/machines")), staleTime: Infinity });

export const useShop = () =>
  useQuery({ queryKey: ["shop"], queryFn: () => value(api.GET("/api/shop")), staleTime: Infinity });

export const useMachine = (name: string) =>
  useQuery({
    queryKey: ["machine", name],
    queryFn: () => value(api.GET("/api/machines/{name}", { params: { path: { name } } })),
  });

export const useJobs = (ended: boolean) =>
  useQuery({
    queryKey: ["jobs", ended],
    queryFn: () => value(api.GET("/api/jobs", { params: { query: { ended } } })),
    refetchInterval: 10_000,
  });

/** The line, with the version that a move must name. */
export const useQueue = () =>
  useQuery({
    queryKey: ["jobs", "line"],
    queryFn: () => value(api.GET("/api/queue")),
    refetchInterval: 10_000,
  });

export const useJobWhy = (number: number, open: boolean) =>
  useQuery({
    enabled: open,
    queryKey: ["jobs", "why", number],
    queryFn: () => value(api.GET("/api/jobs/{number}/why", { params: { path: { number } } })),
  });

export const useOrders = (ended = false) =>
  useQuery({
    queryKey: ["orders", ended],
    queryFn: () => value(api.GET("/api/orders", { params: { query: { ended } } })),
    refetchInterval: 10_000,
  });

export const useOrder = (number: number) =>
  useQuery({
    queryKey: ["orders", "one", number],
    queryFn: () => value(api.GET("/api/orders/{number}", { params: { path: { number } } })),
    refetchInterval: 10_000,
  });

export const useStock = () => useQuery({ queryKey: ["orders", "stock"], queryFn: () => value(api.GET("/api/stock")) });

/** What each machine does next; renewed as things change, and every few seconds. */
export const usePlan = () =>
  useQuery({ queryKey: ["plan"], queryFn: () => value(api.GET("/api/plan")), refetchInterval: 5_000 });

export const useRounds = (site: string | null) =>
  useQuery({
    queryKey: ["plan", "rounds", site],
    queryFn: () => value(api.GET("/api/rounds", { params: { query: site === null ? {} : { site } } })),
    refetchInterval: 5_000,
    placeholderData: (before) => before,
  });

/** Says that somebody looks, now and then; tells what happened while they were away. */
export const useSinceYouLeft = () =>
  useQuery({
    queryKey: ["since"],
    queryFn: () => value(api.POST("/api/me/here")),
    refetchInterval: 60_000,
    refetchIntervalInBackground: false,
  });

export const usePlanning = () => useQuery({ queryKey: ["setup", "planning"], queryFn: () => value(api.GET("/api/planning")) });

export const useStrategies = () =>
  useQuery({ queryKey: ["strategies"], queryFn: () => value(api.GET("/api/planning/strategies")), staleTime: Infinity });

export const useHours = () => useQuery({ queryKey: ["setup", "hours"], queryFn: () => value(api.GET("/api/hours")) });

/** Spans in which machines are kept free, from now on. */
export const useUpkeep = () =>
  useQuery({ queryKey: ["setup", "upkeep"], queryFn: () => value(api.GET("/api/upkeep-windows")), refetchInterval: 60_000 });

export const useSpools = () => useQuery({ queryKey: ["setup", "spools"], queryFn: () => value(api.GET("/api/spools")) });

export const useHelpers = () => useQuery({ queryKey: ["setup", "helpers"], queryFn: () => value(api.GET("/api/helpers")) });

export const useTurnaround = (from: string, to: string) =>
  useQuery({
    queryKey: ["utilisation", "turnaround", from, to],
    queryFn: () => value(api.GET("/api/report/turnaround", { params: { query: { from, to } } })),
    placeholderData: (before) => before,
  });

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

export const useHistory = (kind: "files" | "parts", which: string) =>
  useQuery({
    queryKey: ["builds", "history", kind, which],
    queryFn: () =>
      kind === "files"
        ? value(api.GET("/api/files/{which}/history", { params: { path: { which } } }))
        : value(api.GET("/api/parts/{which}/history", { params: { path: { which } } })),
  });

export const useModels = () =>
  useQuery({ queryKey: ["models"], queryFn: () => value(api.GET("/api/models")), staleTime: 60_000 });

export const usePaces = () =>
  useQuery({ queryKey: ["builds", "paces"], queryFn: () => value(api.GET("/api/models/paces")) });

/** What a content says for a model. */
export const useReading = (sha256: string | undefined, model: string) =>
  useQuery({
    enabled: sha256 !== undefined,
    queryKey: ["reading", sha256, model],
    queryFn: () =>
      value(
        api.GET("/api/contents/{sha256}/reading", { params: { path: { sha256: sha256 ?? "" }, query: { model } } }),
      ),
    staleTime: Infinity,
  });

export const useBuilds = (machine: string) =>
  useQuery({
    queryKey: ["builds", machine],
    queryFn: () => value(api.GET("/api/builds", { params: { query: { machine, limit: 12 } } })),
  });

/** One build; what it is made from does not change. */
export const useBuild = (number: number | undefined) =>
  useQuery({
    enabled: number !== undefined,
    queryKey: ["build", number],
    queryFn: () => value(api.GET("/api/builds/{number}", { params: { path: { number: number ?? 0 } } })),
    staleTime: Infinity,
  });

/** What hands changed of a build. */
export const useChanges = (number: number) =>
  useQuery({
    queryKey: ["changes", number],
    queryFn: () => value(api.GET("/api/builds/{number}/changes", { params: { path: { number } } })),
  });

export const useLevelMaps = (name: string) =>
  useQuery({
    queryKey: ["level", name],
    queryFn: () => value(api.GET("/api/machines/{name}/level-maps", { params: { path: { name }, query: { limit: 12 } } })),
  });

export const useNotices = () =>
  useQuery({ queryKey: ["notices"], queryFn: () => value(api.GET("/api/notices", { params: { query: {} } })) });

/** The ledger of the last `hours` of shop time, all machines' or one's. */
export function useLedger(hours: number, machine?: string) {
  const { now, heard } = useLive();
  return useQuery({
    enabled: heard,
    queryKey: ["ledger", hours, machine],
    queryFn: () => {
      const begin = new Date(now().getTime() - hours * 3600_000).toISOString();
      return value(api.GET("/api/ledger", { params: { query: { begin, machine } } }));
    },
  });
}

export function useHeat(machine: string, hours: number) {
  const { now, heard } = useLive();
  return useQuery({
    enabled: heard,
    queryKey: ["heat", machine, hours],
    queryFn: () => {
      const begin = new Date(now().getTime() - hours * 3600_000).toISOString();
      return value(api.GET("/api/machines/{name}/heat", { params: { path: { name: machine }, query: { begin } } }));
    },
    refetchInterval: 4_000,
  });
}

export const useUtilisation = (from: string, to: string) =>
  useQuery({
    queryKey: ["utilisation", from, to],
    queryFn: () => value(api.GET("/api/report/utilisation", { params: { query: { from, to } } })),
    placeholderData: (before) => before,
  });

/** A change: runs `change`, then has these kinds of records read again. */
export function useChange<A>(change: (argument: A) => Promise<unknown>, ...touches: string[]) {
  const client = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSettled: () => Promise.all(touches.map((kind) => client.invalidateQueries({ queryKey: [kind] }))),
  });
}
