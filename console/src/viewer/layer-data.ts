import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

import { api, CallFailed, value } from "../api/client";

export const TRAVEL = 0;
export const EXTRUDE = 1;
export const RETRACT = 2;
export const PRIME = 3;
/** mm² of 1.75 mm filament: from mm fed to mm³. */
const FILAMENT_MM2 = (Math.PI / 4) * 1.75 ** 2;

/** One layer's moves as columns; docs/protocols/layers.md has the binary form. */
export interface LayerMoves {
  layer: number;
  z: number;
  start: [number, number];
  count: number;
  features: string[];
  x: Float32Array;
  y: Float32Array;
  /** mm/s */
  speed: Float32Array;
  /** mm³/s */
  flow: Float32Array;
  /** Seconds since the layer began, when the move is over. */
  until: Float32Array;
  line: Uint32Array;
  /** Commands of the file that are done with the move. */
  command: Uint32Array;
  kind: Uint8Array;
  tool: Uint8Array;
  feature: Uint16Array;
}

export function decodeLayer(buffer: ArrayBuffer): LayerMoves {
  const view = new DataView(buffer);
  if (view.getUint32(0) !== 0x434c4159) throw new Error("This is not a layer.");
  const size = view.getUint16(6, true);
  const count = view.getUint32(24, true);
  const names = view.getUint32(28, true);
  const at = 36 + names;
  const features = new TextDecoder().decode(new Uint8Array(buffer, 36, names)).trimEnd().split("\n");
  const m: LayerMoves = {
    layer: view.getUint32(32, true),
    z: view.getFloat32(8, true),
    start: [view.getFloat32(12, true), view.getFloat32(16, true)],
    count,
    features,
    x: new Float32Array(count),
    y: new Float32Array(count),
    speed: new Float32Array(count),
    flow: new Float32Array(count),
    until: new Float32Array(count),
    line: new Uint32Array(count),
    command: new Uint32Array(count),
    kind: new Uint8Array(count),
    tool: new Uint8Array(count),
    feature: new Uint16Array(count),
  };
  let passed = 0;
  for (let i = 0, o = at; i < count; i++, o += size) {
    m.x[i] = view.getFloat32(o, true);
    m.y[i] = view.getFloat32(o + 4, true);
    m.speed[i] = view.getFloat32(o + 12, true);
    const seconds = view.getFloat32(o + 20, true);
    passed += seconds;
    m.flow[i] = seconds > 0 ? (view.getFloat32(o + 16, true) * FILAMENT_MM2) / seconds : 0;
    m.until[i] = passed;
    m.line[i] = view.getUint32(o + 24, true);
    m.command[i] = view.getUint32(o + 28, true);
    m.kind[i] = view.getUint8(o + 32);
    m.tool[i] = view.getUint8(o + 33);
    m.feature[i] = view.getUint16(o + 34, true);
  }
  return m;
}

/** Fetch bytes of a content; throws CallFailed with a sentence. */
export async function fetchBytes(path: string): Promise<ArrayBuffer> {
  const answer = await fetch(path).catch(() => null);
  if (!answer) throw new CallFailed(0, "The service does not answer. It may be restarting; try again in a moment.");
  if (!answer.ok) {
    const problem = await answer.json().catch(() => ({}));
    throw new CallFailed(answer.status, problem.detail ?? `The service answered ${answer.status}.`);
  }
  return answer.arrayBuffer();
}

const layerQuery = (sha256: string, layer: number, model: string) => ({
  queryKey: ["layer", sha256, layer, model],
  queryFn: async () =>
    decodeLayer(await fetchBytes(`/api/contents/${sha256}/layers/${layer}?model=${encodeURIComponent(model)}`)),
  staleTime: Infinity,
  gcTime: 60_000,
});

/** A layer's moves; its neighbours are fetched ahead, so that scrubbing keeps up. */
export function useLayer(sha256: string, layer: number, layers: number, model: string) {
  const client = useQueryClient();
  const found = useQuery({ ...layerQuery(sha256, layer, model), placeholderData: (before) => before, enabled: layers > 0 });
  useEffect(() => {
    if (!found.isSuccess || found.isPlaceholderData) return;
    for (const next of [layer + 1, layer - 1, layer + 2])
      if (next >= 1 && next <= layers) void client.prefetchQuery(layerQuery(sha256, next, model));
  }, [client, sha256, layer, layers, model, found.isSuccess, found.isPlaceholderData]);
  return found;
}

/** z, height, seconds and first line of every layer. */
export const useLayerTable = (sha256: string, model: string) =>
  useQuery({
    queryKey: ["layers", sha256, model],
    queryFn: () =>
      value(api.GET("/api/contents/{sha256}/layers", { params: { path: { sha256 }, query: { model } } })),
    staleTime: Infinity,
  });
