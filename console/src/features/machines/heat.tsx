import type { Reading } from "../../api/client";
import { clock } from "../../ui/format";

const W = 540;
const H = 200;
const LEFT = 52;
const RIGHT = 56;
const TOP = 12;
const FOOT = 24;
type Pick = (r: Reading) => number | null | undefined;

const LINES: { name: string; pick: Pick; asked: Pick; colour: string }[] = [
  { name: "nozzle", pick: (r) => r.nozzle?.measured_c, asked: (r) => r.nozzle?.asked_c, colour: "var(--uncleared)" },
  { name: "bed", pick: (r) => r.bed?.measured_c, asked: (r) => r.bed?.asked_c, colour: "var(--cooling)" },
];

/** Measured (full line) and asked (fine dashes) temperatures over time; `at` is a time to be marked. */
export function HeatChart({ readings, begin, end, at }: { readings: Reading[]; begin: number; end: number; at?: number }) {
  const highest = Math.max(100, ...readings.map((r) => Math.max(r.nozzle?.measured_c ?? 0, r.nozzle?.asked_c ?? 0)));
  const top = Math.ceil((highest + 10) / 50) * 50;
  const x = (time: number) => LEFT + ((time - begin) / (end - begin)) * (W - LEFT - RIGHT);
  const y = (c: number) => TOP + (1 - c / top) * (H - TOP - FOOT);
  const path = (pick: Pick) => {
    let pen = "M";
    let before = 0;
    return readings
      .map((r) => {
        const c = pick(r);
        const at = Date.parse(r.at);
        if (c == null || at < begin) return "";
        if (at - before > (end - begin) / 20) pen = "M";
        const step = `${pen}${x(at).toFixed(1)} ${y(c).toFixed(1)}`;
        pen = "L";
        before = at;
        return step;
      })
      .join("");
  };
  const ticks = Array.from({ length: 5 }, (_, i) => begin + ((end - begin) * i) / 4);
  const last = readings.at(-1);
  const [nozzleY, bedY] = LINES.map((l) => y((last && l.pick(last)) ?? 0)) as [number, number];
  const apart = Math.max(0, 15 - (bedY - nozzleY)) / 2;
  const labelY = [nozzleY - apart, bedY + apart];
  return (
    <svg viewBox={`0 0 ${W} ${H}`} className="w-full" role="img" aria-label="Nozzle and bed temperature over time">
      {Array.from({ length: top / 50 + 1 }, (_, i) => i * 50).map((c) => (
        <g key={c}>
          <line x1={LEFT} x2={W - RIGHT} y1={y(c)} y2={y(c)} stroke="var(--rule)" />
          <text x={LEFT - 8} y={y(c) + 4} textAnchor="end" fontSize="12" fill="var(--faded)">
            {c === top ? `${c} °C` : c}
          </text>
        </g>
      ))}
      {ticks.map((t, i) => (
        <text
          key={t}
          x={x(t)}
          y={H - 6}
          textAnchor="middle"
          fontSize="12"
          fill={i === 4 && at === undefined ? "var(--brass)" : "var(--faded)"}
          fontWeight={i === 4 && at === undefined ? 600 : 400}
        >
          {clock(new Date(t))}
        </text>
      ))}
      {LINES.map((l, i) => (
        <g key={l.name} fill="none" stroke={l.colour}>
          <path d={path(l.asked)} strokeWidth="1" strokeDasharray="2 4" />
          <path d={path(l.pick)} strokeWidth="2" strokeLinejoin="round" />
          {last && l.pick(last) != null && (
            <text x={W - RIGHT + 8} y={labelY[i]! + 4} fontSize="13" fontWeight="600" fill={l.colour} stroke="none">
              {l.name}
            </text>
          )}
        </g>
      ))}
      {at !== undefined && at >= begin && at <= end && (
        <line x1={x(at)} x2={x(at)} y1={TOP} y2={H - FOOT} stroke="var(--brass)" strokeWidth="1.5" data-marked={new Date(at).toISOString()} />
      )}
    </svg>
  );
}
