import { Download } from "lucide-react";
import { lazy, type ReactNode, Suspense, useRef, useState } from "react";

import { type Kind, KINDS, kindsFor } from "./figure-kinds";
import { FigureTable } from "./figure-table";
import { type FigurePart, fits, type FiguresReport, type MeasureInfo, partName, PARTS, written } from "./figure-words";
import { RecordsLinks } from "./records-links";
import { useBuildDots, useFigures, useMeasures } from "./queries";
import { takePng, takeSvg } from "./take-away";
import { useLive } from "../../api/live";
import { useAddress } from "../../ui/address";
import { clock, day, fromLocal, localInput } from "../../ui/format";
import { Empty, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { Pick } from "../../ui/pick";
import { TimeField } from "../../ui/time-field";

const FigureChart = lazy(() => import("./figure-chart"));
const DAY_MS = 86_400_000;
const PERIODS = [
  { key: "7", name: "last 7 days" },
  { key: "28", name: "last 28 days" },
  { key: "91", name: "last 13 weeks" },
  { key: "365", name: "last year" },
  { key: "dates", name: "from … to …" },
];
const USUAL_DAYS = "28";
/** What people ask first, a press away. */
const QUESTIONS: { name: string; asks: Record<string, string> }[] = [
  { name: "OEE by machine", asks: { measure: "oee", by: "machine", then: "" } },
  { name: "When machines work", asks: { measure: "productive", by: "weekday", then: "hour" } },
  { name: "Productive share by day", asks: { measure: "productive", by: "day", then: "" } },
  { name: "Which machine is worse", asks: { measure: "scrap_share", by: "machine", then: "" } },
  { name: "Why there is scrap", asks: { measure: "scrap", by: "scrap_reason", then: "" } },
  { name: "Why machines stop", asks: { measure: "stopped", by: "stop_reason", then: "" } },
  { name: "Planned against real", asks: { measure: "pace", by: "model", then: "" } },
];
/** What a link may narrow the figures by. */
const NARROWED: FigurePart[] = ["machine", "model", "site", "pool", "group", "part", "file", "material", "colour", "customer", "person"];

/** Any measure of the records, by what one likes. What is asked is in the page's address. */
export function FiguresPage() {
  const { now, heard } = useLive();
  if (heard) return <Figures now={now} />;
  return (
    <FiguresFrame>
      <Sheet>
        <Loading rows={7} />
      </Sheet>
    </FiguresFrame>
  );
}

function FiguresFrame({ children }: { children: ReactNode }) {
  return (
    <Page
      title="Figures"
      beside={
        <RecordsLinks here="/records/figures" />
      }
    >
      {children}
    </Page>
  );
}

function Figures({ now }: { now: () => Date }) {
  const [get, change] = useAddress();
  const [opened, open] = useState(now);
  const measures = useMeasures();
  const name = get("measure") || "productive";
  const [one, two] = ((get("by") || (get("measure") ? "" : "machine")).split(",") as FigurePart[]).filter(Boolean);
  const by = one ? [one] : [];
  const then = (get("then") as FigurePart) || two || "";
  const parts = then && then !== by[0] ? [...by, then] : by;
  const days = get("days") || (get("from") ? "dates" : USUAL_DAYS);
  const end = days === "dates" && get("to") ? fromLocal(get("to")) : opened;
  const begin = days === "dates" ? (get("from") ? fromLocal(get("from")) : new Date(end.getTime() - 28 * DAY_MS)) : new Date(end.getTime() - Number(days) * DAY_MS);
  const narrowed = NARROWED.filter((part) => get(part));
  const asked: Record<string, string> = {
    measure: name,
    by: parts.join(","),
    from: begin.toISOString(),
    to: end.toISOString(),
    against: get("against"),
    ...Object.fromEntries(narrowed.map((part) => [part, get(part)])),
  };
  const found = useFigures(asked);
  const known = measures.data?.find((m) => m.name === name);
  const choices = PARTS.filter((p) => fits(known, p.key));
  const choosePeriod = (key: string) => {
    open(now());
    if (key === "dates") change({ days: "", from: localInput(begin), to: localInput(end) });
    else change({ days: key === USUAL_DAYS ? "" : key, from: "", to: "" });
  };
  const chooseMeasure = (wish: string) => {
    const chosen = measures.data?.find((m) => m.name === wish);
    const stays = (part: FigurePart) => fits(chosen, part);
    change({ measure: wish, by: by[0] && stays(by[0]) ? by[0] : "machine", then: then && stays(then) ? then : "", chart: "" });
  };
  const time = "min-h-9 w-full rounded-md border border-rule bg-sheet px-2 text-sm text-ink sm:w-44";
  return (
    <FiguresFrame>
      <div className="mb-4 flex flex-wrap gap-x-1.5 gap-y-2 text-sm">
        {QUESTIONS.map((q) => {
          const here = q.asks.measure === name && q.asks.by === by.join(",") && q.asks.then === then;
          return (
            <button
              key={q.name}
              type="button"
              aria-pressed={here}
              onClick={() => change({ ...q.asks, chart: "" })}
              className={`min-h-8 rounded-md px-2.5 ${here ? "bg-ink text-ground" : "bg-sunk text-ink"}`}
            >
              {q.name}
            </button>
          );
        })}
      </div>
      <div className="mb-4 flex flex-wrap items-center gap-2 text-sm">
        <Pick label="Measure" value={name} choose={chooseMeasure} options={(measures.data ?? []).map((m) => ({ key: m.name, name: m.title }))} />
        <span className="text-faded">by</span>
        <Pick label="By" value={by[0] ?? ""} choose={(p) => change({ measure: name, by: p, then: p ? then : "", chart: "" })} options={[{ key: "", name: "all together" }, ...choices.map((p) => ({ key: p.key, name: p.name }))]} />
        {by[0] && (
          <>
            <span className="text-faded">and</span>
            <Pick label="And by" value={then} choose={(p) => change({ measure: name, by: by[0] ?? "", then: p, chart: "" })} options={[{ key: "", name: "nothing else" }, ...choices.filter((p) => p.key !== by[0]).map((p) => ({ key: p.key, name: p.name }))]} />
          </>
        )}
        <Pick label="Period" value={days} choose={choosePeriod} options={PERIODS.some((p) => p.key === days) ? PERIODS : [{ key: days, name: `last ${days} days` }, ...PERIODS]} />
        {days === "dates" && (
          <span className="flex w-full items-baseline gap-2 sm:w-auto">
            <TimeField label="From" className={time} value={get("from") || localInput(begin)} change={(from) => change({ from, to: get("to") || localInput(end) })} />
            <span className="text-faded">to</span>
            <TimeField label="To" className={time} value={get("to") || localInput(end)} change={(to) => change({ to, from: get("from") || localInput(begin) })} />
          </span>
        )}
        <label className="flex min-h-9 items-center gap-2">
          <input type="checkbox" checked={get("against") === "before"} onChange={(e) => change({ against: e.target.checked ? "before" : "" })} /> beside the time before
        </label>
        {narrowed.map((part) => (
          <button key={part} type="button" className="min-h-8 rounded-md bg-sunk px-2.5" onClick={() => change({ [part]: "" })} aria-label={`No longer only ${partName(part)} ${get(part)}`}>
            <span className="text-faded">{partName(part)}</span> {get(part)} ×
          </button>
        ))}
      </div>
      {found.error ? (
        <Sheet>
          <Failed error={found.error} again={() => found.refetch()} />
        </Sheet>
      ) : !found.data || !found.data.measures[0] ? (
        <Sheet>
          <Loading rows={8} />
        </Sheet>
      ) : (
        <div className={found.isPlaceholderData ? "opacity-60" : ""}>
          <Answer report={found.data} measure={found.data.measures[0]} asked={asked} kind={get("chart")} choose={(chart) => change({ chart })} />
        </div>
      )}
    </FiguresFrame>
  );
}

interface AnswerProps {
  report: FiguresReport;
  measure: MeasureInfo;
  asked: Record<string, string>;
  kind: string;
  choose: (kind: Kind) => void;
}

function Answer({ report, measure, asked, kind: wish, choose }: AnswerProps) {
  const kinds = kindsFor(report.by, measure);
  const kind = kinds.find((k) => k === wish) ?? kinds[0];
  const chart = useRef<HTMLDivElement>(null);
  const [failed, setFailed] = useState("");
  const dots = useBuildDots(report, kind === "scatter");
  const total = report.total.figures[measure.name];
  const before = report.total.against?.[measure.name];
  const drawn = report.rows.some((r) => r.figures[measure.name]) || kind === "scatter";
  const file = `${measure.name}${report.by.map((part) => `-by-${part}`).join("")}`;
  const csv = `/api/report/figures?${new URLSearchParams({ ...asked, format: "csv" })}`;
  const take = (how: typeof takeSvg) => () => {
    const svg = chart.current?.querySelector("svg");
    if (svg) how(svg, file).catch((error: unknown) => setFailed(error instanceof Error ? error.message : "It could not be drawn."));
  };
  const look = "inline-flex items-center gap-1 text-ink underline-offset-2 hover:underline";
  return (
    <>
      <Sheet className="mb-5">
        <SheetTitle beside={`${day(report.begin)}, ${clock(report.begin)} to ${day(report.end)}, ${clock(report.end)}`}>
          {measure.title}
          {report.by.length > 0 && ` by ${report.by.map(partName).join(" and ")}`}
        </SheetTitle>
        <div className="px-5 pb-5">
          <div className="mb-4 flex flex-wrap items-baseline gap-x-8 gap-y-1">
            <p className="m-0">
              <span className="font-serif text-3xl font-semibold">{total ? written(measure.unit, total.value) : "–"}</span>{" "}
              <span className="text-sm text-faded">
                in all
                {total?.low != null && total.high != null && `; between ${written(measure.unit, total.low)} and ${written(measure.unit, total.high)}, 19 times in 20`}
                {report.against_begin && (before ? `; ${written(measure.unit, before.value)} in the time before` : "; nothing was counted in the time before")}
              </span>
            </p>
            <p className="m-0 text-sm text-faded">{measure.unit === "money" ? `in ${report.currency}: ${measure.formula}` : measure.formula}</p>
          </div>
          {!drawn ? (
            <Empty title="Nothing was counted in this time">Choose a longer one, or ask by something else.</Empty>
          ) : (
            kind && (
              <>
                {kinds.length > 1 && (
                  <div role="group" aria-label="Chart" className="mb-3 flex gap-1 text-sm">
                    {kinds.map((k) => (
                      <button key={k} type="button" aria-pressed={k === kind} onClick={() => choose(k)} className="min-h-8 rounded-md px-2.5 text-faded hover:text-ink aria-pressed:bg-sunk aria-pressed:font-semibold aria-pressed:text-ink">
                        {KINDS[k]}
                      </button>
                    ))}
                  </div>
                )}
                <div ref={chart}>
                  <Suspense fallback={<Loading rows={6} />}>
                    <FigureChart report={report} measure={measure} kind={kind} builds={dots} />
                  </Suspense>
                </div>
                <p className="mt-3 mb-0 flex flex-wrap items-baseline gap-x-4 gap-y-1 text-sm text-faded">
                  <span>{legend(kind, report, measure)}</span>
                  <span className="ml-auto flex gap-3">
                    <button type="button" className={look} onClick={take(takeSvg)}>
                      <Download size={14} aria-hidden /> SVG
                    </button>
                    <button type="button" className={look} onClick={take(takePng)}>
                      <Download size={14} aria-hidden /> PNG
                    </button>
                    <a href={csv} download={`${file}.csv`} className={look}>
                      <Download size={14} aria-hidden /> CSV
                    </a>
                  </span>
                </p>
                {failed && <p className="mt-2 mb-0 text-sm text-alarm">{failed}</p>}
              </>
            )
          )}
        </div>
      </Sheet>
      {report.rows.length > 0 && <FigureTable report={report} measure={measure} />}
    </>
  );
}

/** What a chart's marks mean, of those that are there. */
function legend(kind: Kind, report: FiguresReport, measure: MeasureInfo): string {
  const rows = report.rows.map((r) => r.figures[measure.name]);
  const ranged = rows.some((f) => f?.low != null);
  const before = report.total.against?.[measure.name] != null;
  const said = {
    bars: [ranged && "The line through a bar's end: where the true share lies, 19 times in 20.", before && "An upright stroke: the time before.", "A press opens the builds."],
    trend: [ranged && "The band: where the true share lies, 19 times in 20.", measure.unit !== "count" && "Dotted: all of it.", before && measure.unit !== "count" && "Dashed: the time before.", "A press on a dot opens the builds."],
    map: [`The stronger the colour, the more; the strongest is ${written(measure.unit, Math.max(0, ...rows.map((f) => f?.value ?? 0)))}. A press opens the builds.`],
    funnel: ["By chance alone 19 of 20 lie within the darker band, all but two in a thousand within the wide one; red ones are worse. A press opens the builds."],
    pareto: ["Bars: each by itself. Line: all up to there. A press opens the builds."],
    scatter: ["Above the line a build took longer than planned. Red: scrap. At most the newest 1,000 builds; a press opens one."],
  }[kind];
  return said.filter(Boolean).join(" ");
}
