import { type KeyboardEvent, useId, useState } from "react";

import { useLive } from "../api/live";
import { inputLook } from "./dialog";
import { clock, fromLocal, inZone, localInput, outOfZone } from "./format";

const LIKE = { date: "23 Oct 2026", time: "23 Oct 2026, 12:00" };
const MONTHS = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const ISO = /^(\d{4})-(\d{1,2})-(\d{1,2})(?:[t ]+(\d{1,2}):(\d{2}))?$/;
const WRITTEN = /^(?:[a-z]+,? +)?(\d{1,2})\.? +([a-z]{3,})\.?(?:,? +(\d{4}))?(?:,? +(\d{1,2}):(\d{2}))?$/;
const CLOCK = /^(\d{1,2}):(\d{2})$/;

/** What a person means by a time: `23 Oct 2026, 12:00`, the same without year or hour, `12:00` for today, or ISO 8601. */
function meant(text: string, present: Date): Date | null {
  const t = text.trim().toLowerCase();
  const now = inZone(present);
  const at = (year: number, month: number, day: number, hour = 0, minute = 0) => {
    const found = new Date(year, month, day, hour, minute);
    return found.getMonth() === month && found.getDate() === day && hour < 24 && minute < 60 ? outOfZone(found) : null;
  };
  const number = (s: string | undefined) => (s === undefined ? undefined : Number(s));
  const iso = ISO.exec(t);
  if (iso) return at(Number(iso[1]), Number(iso[2]) - 1, Number(iso[3]), number(iso[4]), number(iso[5]));
  const short = CLOCK.exec(t);
  if (short) return at(now.getFullYear(), now.getMonth(), now.getDate(), Number(short[1]), Number(short[2]));
  const written = WRITTEN.exec(t);
  const month = written ? MONTHS.indexOf(written[2]!.slice(0, 3)) : -1;
  if (!written || month < 0) return null;
  const said = (year: number) => at(year, month, Number(written[1]), number(written[4]), number(written[5]));
  if (written[3]) return said(Number(written[3]));
  const soon = said(now.getFullYear());
  return soon && present.getTime() - soon.getTime() > 180 * 86_400_000 ? said(now.getFullYear() + 1) : soon;
}

const dayOf = (at: Date) =>
  inZone(at).toLocaleDateString("en-GB", { weekday: "short", day: "numeric", month: "short", year: "numeric" }).replace(",", "");

interface Props {
  /** The time in the person's zone as `2026-10-23T12:00`, or the date alone; empty for none. */
  value: string;
  change: (value: string) => void;
  /** Only the date is wanted. */
  date?: boolean;
  id?: string;
  label?: string;
  className?: string;
}

/** A time that is typed and shown as the shop writes times, whatever the browser's language. The arrow keys move it by a day.
 * One that cannot be read says so once it is left, and keeps its form from being sent. */
export function TimeField({ value, change, date = false, id, label, className = inputLook }: Props) {
  const { now } = useLive();
  const [draft, setDraft] = useState<string | null>(null);
  const [typing, setTyping] = useState(false);
  const problem = useId();
  const like = date ? LIKE.date : LIKE.time;
  const hint = `Write it like ${like}.`;
  const written = (v: string) => {
    const at = fromLocal(date ? `${v}T00:00` : v);
    return v && !Number.isNaN(at.getTime()) ? (date ? dayOf(at) : `${dayOf(at)}, ${clock(at)}`) : "";
  };
  const give = (at: Date) => change(localInput(at).slice(0, date ? 10 : 16));
  const type = (text: string) => {
    setDraft(text);
    setTyping(true);
    const at = meant(text, now());
    if (at) give(at);
    else if (!text.trim()) change("");
  };
  const wrong = draft !== null && draft.trim() !== "" && !meant(draft, now());
  const told = wrong && !typing;
  const leave = () => {
    setTyping(false);
    if (!wrong) setDraft(null);
  };
  const step = (e: KeyboardEvent) => {
    if ((e.key !== "ArrowUp" && e.key !== "ArrowDown") || wrong) return;
    e.preventDefault();
    const at = inZone(value ? fromLocal(date ? `${value}T00:00` : value) : now());
    at.setDate(at.getDate() + (e.key === "ArrowUp" ? 1 : -1));
    setDraft(null);
    give(outOfZone(at));
  };
  return (
    <span className="inline-flex min-w-0 flex-col gap-1">
      <input
        id={id}
        aria-label={label}
        aria-invalid={told}
        aria-describedby={told ? problem : undefined}
        ref={(field) => field?.setCustomValidity(wrong ? hint : "")}
        className={`${className} ${told ? "border-alarm! text-alarm!" : ""}`}
        placeholder={like}
        autoComplete="off"
        value={draft ?? written(value)}
        onChange={(e) => type(e.target.value)}
        onKeyDown={step}
        onBlur={leave}
      />
      {told && (
        <span id={problem} role="alert" className="text-sm text-alarm">
          {hint}
        </span>
      )}
    </span>
  );
}
