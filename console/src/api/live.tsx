import { useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useRef, useState } from "react";

import { writeDatesIn } from "../ui/format";
import type { Camera, Machine, ShopInfo } from "./client";

interface Live {
  /** Shop time now. */
  now: () => Date;
  rate: number;
  /** False while the live stream is broken; since when, in real time. */
  heard: boolean;
  lost: Date | null;
}

const LiveContext = createContext<Live>({ now: () => new Date(), rate: 1, heard: false, lost: null });

/** By the kind of a record that has changed: the queries whose answers it is part of. */
const AFFECTS: Record<string, string[]> = {
  access: ["people", "me"],
  arrivals: ["arrivals"],
  backups: ["backups", "first-steps"],
  cameras: ["cameras", "machine", "watch"],
  films: ["films"],
  builds: ["builds", "build", "changes", "machine", "jobs", "orders", "plan", "notices"],
  "change-points": ["change-points"],
  files: ["files", "parts", "jobs"],
  "hot-folders": ["hot-folders"],
  jobs: ["jobs", "orders", "plan"],
  ledger: ["ledger"],
  machines: ["machine", "first-steps", "level", "jobs", "plan", "plugs", "upkeep"],
  materials: ["materials", "jobs", "plan"],
  models: ["models", "first-steps"],
  notices: ["notices"],
  read: ["notices"],
  "notice-rules": ["notice-rules"],
  channels: ["channels", "first-steps", "notice-rules"],
  costs: ["costs"],
  deliveries: ["channels", "told", "first-steps"],
  orders: ["orders", "plan"],
  parts: ["parts", "files", "jobs"],
  plan: ["plan"],
  "saved-views": ["saved-views"],
  setup: ["setup", "first-steps", "backups", "plan", "jobs", "orders", "watching", "film-rules", "watch"],
  spools: ["setup", "first-steps", "machine", "plan", "jobs", "orders"],
  reports: ["reports"],
  stock: ["orders"],
  upkeep: ["upkeep"],
  suspicions: ["suspicions"],
  "watch-rules": ["watch"],
};
const EVERYTHING = [...new Set(Object.values(AFFECTS).flat())];

/** Listens to the live stream and keeps the query cache fresh; gives shop time to all below. */
export function LiveProvider({ children }: { children: ReactNode }) {
  const client = useQueryClient();
  const [clock, setClock] = useState<{ shop: number; at: number; rate: number } | null>(null);
  const [lost, setLost] = useState<Date | null>(null);
  const stale = useRef(new Set<string>());

  useEffect(() => {
    const source = new EventSource("/api/live");
    const cache = client.getQueryCache();
    const outdate = (kinds: string[]) => {
      for (const kind of kinds) for (const query of cache.findAll({ queryKey: [kind] })) stale.current.add(query.queryHash);
    };
    // An answer that is on its way is never given up for a newer one: with changes arriving faster than
    // answers, none would ever come. It is asked for again afterwards.
    const flush = setInterval(() => {
      for (const hash of [...stale.current]) {
        const query = cache.get(hash);
        if (query?.state.fetchStatus === "fetching") continue;
        stale.current.delete(hash);
        if (query) void client.invalidateQueries({ queryKey: query.queryKey, exact: true });
      }
    }, 400);
    source.addEventListener("shop", (e) => {
      const shop = JSON.parse(e.data) as ShopInfo;
      setClock({ shop: Date.parse(shop.now), at: performance.now(), rate: shop.rate });
      writeDatesIn(shop.dates ?? "");
      client.setQueryData(["shop"], shop);
      setLost(null);
      outdate(EVERYTHING);
    });
    source.addEventListener("machine", (e) => {
      const machine = JSON.parse(e.data) as Machine;
      client.setQueryData<Machine[]>(["machines"], (before) => {
        if (!before) return before;
        const rest = before.filter((m) => m.name !== machine.name);
        return [...rest, machine].sort((a, b) => a.name.localeCompare(b.name));
      });
    });
    source.addEventListener("camera", (e) => {
      const camera = JSON.parse(e.data) as Camera;
      client.setQueryData<Camera[]>(["cameras"], (before) => before?.map((c) => (c.name === camera.name ? camera : c)));
      // An answer on its way may have been made before this, and replaces it. Machines are told all the time.
      const asked = cache.find({ queryKey: ["cameras"], exact: true });
      if (asked?.state.fetchStatus === "fetching") stale.current.add(asked.queryHash);
    });
    source.addEventListener("changed", (e) => {
      const { what } = JSON.parse(e.data) as { what: string };
      outdate(what === "everything" ? EVERYTHING : (AFFECTS[what] ?? []));
    });
    source.onerror = () => {
      setLost((before) => before ?? new Date());
      if (source.readyState === EventSource.CLOSED) void client.invalidateQueries({ queryKey: ["me"] });
    };
    return () => {
      clearInterval(flush);
      source.close();
    };
  }, [client]);

  const now = useCallback(
    () => (clock ? new Date(clock.shop + (performance.now() - clock.at) * clock.rate) : new Date()),
    [clock],
  );
  const live = useMemo(() => ({ now, rate: clock?.rate ?? 1, heard: clock !== null, lost }), [now, clock, lost]);
  return <LiveContext.Provider value={live}>{children}</LiveContext.Provider>;
}

/** For a page without a live stream: shop time as it was last told. */
export function ToldTime({ at, children }: { at: string; children: ReactNode }) {
  const live = useMemo(() => ({ now: () => new Date(at), rate: 1, heard: true, lost: null }), [at]);
  return <LiveContext.Provider value={live}>{children}</LiveContext.Provider>;
}

export const useLive = () => useContext(LiveContext);

/** Shop time, renewed every `everyMs` real milliseconds. */
export function useNow(everyMs = 1000): Date {
  const { now } = useLive();
  const [at, setAt] = useState(now);
  useEffect(() => {
    setAt(now());
    const timer = setInterval(() => setAt(now()), everyMs);
    return () => clearInterval(timer);
  }, [now, everyMs]);
  return at;
}
