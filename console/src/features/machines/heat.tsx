import { useEffect, useState } from "react";

import { useLive } from "../../api/live";
import { Choice } from "../../ui/choice";
import { clock } from "../../ui/format";
import { Empty, Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { BelowPlot, rightOf } from "./below-plot";
import { type HeatMark, HeatPlot } from "./heat-plot";
import { type Span, useHeat } from "./queries";

const HOURS = [
  { key: "1", name: "1 h" },
  { key: "8", name: "8 h" },
  { key: "24", name: "1 day" },
  { key: "168", name: "7 days" },
];

interface Props {
  machine: string;
  /** What stands beside the title. */
  says?: string;
  /** A span that is shown in place of the last hours, ISO times: a build's. */
  span?: Span;
  /** The same of another build, drawn over it. */
  over?: Span & { name: string };
  /** A time that is looked at, ISO. */
  at?: string;
  marks?: HeatMark[];
}

/** Heat over time: the last hours, live, or a given span. Dragging over the plot looks closer, a double click shows all again. */
export function Heat({ machine, says, span, over, at, marks }: Props) {
  const { now } = useLive();
  const [hours, setHours] = useState("1");
  const [closer, setCloser] = useState<Span | null>(null);
  const begin = span?.begin;
  useEffect(() => setCloser(null), [begin, hours]);
  const fixed = closer ?? span;
  const heat = useHeat(machine, fixed ?? Number(hours));
  const other = useHeat(machine, over ?? null);
  const seconds = (iso: string) => Date.parse(iso) / 1000;
  const end = fixed ? seconds(fixed.end) : now().getTime() / 1000;
  const from = fixed ? seconds(fixed.begin) : end - Number(hours) * 3600;
  const iso = (s: number) => new Date(s * 1000).toISOString();
  const csv = `/api/machines/${encodeURIComponent(machine)}/heat.csv?begin=${encodeURIComponent(iso(from))}&end=${encodeURIComponent(iso(end))}`;
  return (
    <Sheet>
      <SheetTitle beside={says}>Heat</SheetTitle>
      <div className="flex min-h-9 flex-wrap items-center justify-between gap-2 px-5 text-sm">
        {closer ? (
          <span className="flex items-center gap-3">
            {clock(closer.begin)} to {clock(closer.end)}
            <button type="button" className="underline" onClick={() => setCloser(null)}>
              show all again
            </button>
          </span>
        ) : span ? (
          <span className="text-faded">the whole build; drag over a part to look closer</span>
        ) : (
          <Choice label="Span of heat" options={HOURS} value={hours} choose={setHours} />
        )}
        <a href={csv} download>
          CSV
        </a>
      </div>
      <div className="px-2 pb-3">
        {heat.error ? (
          <Failed error={heat.error} again={() => heat.refetch()} />
        ) : !heat.data ? (
          <Loading rows={4} height="h-14" />
        ) : heat.data.at.length === 0 ? (
          <Empty title="No readings of this time">They are kept as measured for seven days, by the minute for ninety, then by the hour.</Empty>
        ) : (
          <HeatPlot
            curve={heat.data}
            begin={from}
            end={end}
            at={at ? seconds(at) : undefined}
            marks={marks}
            other={over && other.data && span ? { curve: other.data, shift: seconds(span.begin) - seconds(over.begin), name: over.name } : undefined}
            zoom={(a, b) => setCloser({ begin: iso(a), end: iso(b) })}
            whole={() => setCloser(null)}
            room={rightOf(heat.data)}
          />
        )}
        {heat.data && (heat.data.power_w || heat.data.fan_pct) && (
          <BelowPlot curve={heat.data} begin={from} end={end} zoom={(a, b) => setCloser({ begin: iso(a), end: iso(b) })} whole={() => setCloser(null)} />
        )}
      </div>
    </Sheet>
  );
}
