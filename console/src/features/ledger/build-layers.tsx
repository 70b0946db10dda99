import type { Build } from "../../api/client";
import { duration, sum } from "../../ui/format";
import { Sheet, SheetTitle } from "../../ui/page";
import { type LayerTime, useBuildLayers } from "./queries";

const WIDE = 600;
const HIGH = 120;
const SLOWEST = 5;
/** What a layer must have lost to be named, s. */
const WORTH_S = 1;

/** Each layer's time beside its plan: where the time went. */
export function BuildLayers({ build, show }: { build: Build; show?: (layer: number) => void }) {
  const found = useBuildLayers(build.id, !build.ended_at).data;
  if (!found) return null;
  const { layers, pace } = found;
  const known = layers.filter((l): l is LayerTime & { took: number } => l.took !== null);
  const planned = sum(known.map((l) => l.planned));
  const took = sum(known.map((l) => l.took));
  const over = [...known].sort((a, b) => b.took - b.planned - (a.took - a.planned)).filter((l) => l.took - l.planned >= WORTH_S);
  return (
    <Sheet>
      <SheetTitle beside={known.length < layers.length && known.length > 0 ? `${known.length} of ${layers.length} layers were seen whole` : undefined}>Against its plan</SheetTitle>
      <div className="px-5 pb-4 text-sm">
        {known.length === 0 ? (
          <p className="m-0 text-faded">
            Planned: {duration(build.planned_s)}. How long each layer took is not known{build.ended_at ? "; it was laid before that was kept, or by a machine that does not say." : " yet."}
          </p>
        ) : (
          <>
            <p className="mt-0 mb-3">
              {known.length === layers.length ? "Its layers" : "The layers that were seen"} took {duration(took)} where {duration(planned)} were planned
              {pace != null && <span className="text-faded">: {pace.toFixed(2)} s for each planned second</span>}.
            </p>
            <Plot layers={layers} />
            {over.length === 0 && <p className="mt-3 mb-0 text-faded">No layer took a second more than planned.</p>}
            {over.length > 0 && (
              <table className="mt-3 w-full border-collapse">
                <caption className="pb-1 text-left text-faded">Layers that lost most</caption>
                <thead className="sr-only">
                  <tr>
                    <th>Layer</th>
                    <th>Planned</th>
                    <th>Took</th>
                    <th>Lost</th>
                  </tr>
                </thead>
                <tbody>
                  {over.slice(0, SLOWEST).map((l) => (
                    <tr key={l.layer} className="border-b border-rule last:border-0">
                      <td className="py-1.5">
                        {show ? (
                          <button type="button" className="underline" onClick={() => show(l.layer)}>
                            layer {l.layer}
                          </button>
                        ) : (
                          `layer ${l.layer}`
                        )}
                      </td>
                      <td className="text-right text-faded">planned {duration(l.planned)}</td>
                      <td className="text-right">took {duration(l.took)}</td>
                      <td className="text-right font-medium">+{duration(l.took - l.planned)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </>
        )}
      </div>
    </Sheet>
  );
}

/** Planned as a line, taken as bars; a layer wider than a pixel is not needed, so that many are drawn as their means. */
function Plot({ layers }: { layers: LayerTime[] }) {
  const step = Math.max(1, Math.ceil(layers.length / 150));
  const groups = Array.from({ length: Math.ceil(layers.length / step) }, (_, n) => layers.slice(n * step, (n + 1) * step));
  const bars = groups.map((group) => {
    const seen = group.filter((l) => l.took !== null);
    return {
      planned: sum(group.map((l) => l.planned)) / group.length,
      took: seen.length ? sum(seen.map((l) => l.took ?? 0)) / seen.length : null,
    };
  });
  const most = Math.max(...bars.map((b) => Math.max(b.planned, b.took ?? 0)), 1e-9);
  const y = (s: number) => HIGH - (s / most) * HIGH;
  const w = WIDE / bars.length;
  const line = bars.map((b, i) => `${i ? "L" : "M"}${(i * w).toFixed(1)},${y(b.planned).toFixed(1)}H${((i + 1) * w).toFixed(1)}`).join("");
  return (
    <figure className="m-0">
      <svg viewBox={`0 0 ${WIDE} ${HIGH}`} preserveAspectRatio="none" className="block h-30 w-full" role="img" aria-label="How long each layer took, beside what was planned">
        {bars.map((b, i) => b.took !== null && <rect key={i} x={i * w} width={Math.max(w - 0.6, 0.4)} y={y(b.took)} height={HIGH - y(b.took)} fill="var(--building)" opacity={0.55} />)}
        <path d={line} fill="none" stroke="var(--ink)" strokeWidth={1.25} vectorEffect="non-scaling-stroke" />
      </svg>
      <figcaption className="mt-1 flex justify-between text-faded">
        <span>layer 1</span>
        <span>line: planned · bars: took · tallest {duration(most)}</span>
        <span>{layers.length}</span>
      </figcaption>
    </figure>
  );
}
