import * as Slider from "@radix-ui/react-slider";
import { Check, Minus, Plus, X } from "lucide-react";
import { type KeyboardEvent, useId, useState } from "react";

interface Props {
  label: string;
  unit: string;
  /** What it is set to; null while that is not known. */
  set: number | null;
  /** Beside it: what is measured, or what else should be known. */
  note?: string;
  least: number;
  most: number;
  step: number;
  digits?: number;
  slide?: boolean;
  /** The value that is on its way to the machine. */
  asked: number | null;
  apply: (value: number) => void;
}

/** A value that hands set: typed (Enter or the tick applies), stepped, or slid. What is typed and not applied stays. */
export function Setting({ label, unit, set, note, least, most, step, digits = 0, slide, asked, apply }: Props) {
  const id = useId();
  const [draft, setDraft] = useState<string | null>(null);
  const [sliding, setSliding] = useState<number | null>(null);
  const shown = asked ?? set;
  const typed = draft === null ? null : Number(draft.replace(",", "."));
  const wrong = typed !== null && (draft!.trim() === "" || Number.isNaN(typed) || typed < least || typed > most);
  const write = (value: number) => value.toFixed(digits);
  const send = () => {
    if (typed === null || wrong) return;
    apply(typed);
    setDraft(null);
  };
  const nudge = (by: number) => {
    const from = typed !== null && !wrong ? typed : (shown ?? 0);
    setDraft(null);
    apply(Number(Math.min(most, Math.max(least, from + by)).toFixed(4)));
  };
  const key = (e: KeyboardEvent) => {
    if (e.key === "Enter") send();
    if (e.key === "Escape") setDraft(null);
    if (e.key === "ArrowUp" || e.key === "ArrowDown") {
      e.preventDefault();
      nudge(e.key === "ArrowUp" ? step : -step);
    }
  };
  const round = "flex h-9 w-9 shrink-0 items-center justify-center rounded-md border border-rule hover:bg-sunk disabled:opacity-40";
  return (
    <div className="border-b border-rule py-2 last:border-0">
      <div className="grid grid-cols-[minmax(4.5rem,1fr)_auto] items-center gap-x-3">
        <span className="min-w-0">
          <label htmlFor={id} className="font-medium">
            {label}
          </label>
          {note && <span className="block text-sm text-faded">{note}</span>}
        </span>
        <div className="flex items-center gap-1.5">
          <button type="button" className={round} aria-label={`${label}: less`} onClick={() => nudge(-step)}>
            <Minus size={15} />
          </button>
          <div
            className={`flex h-9 items-center rounded-md border bg-ground px-2 ${wrong ? "border-alarm" : draft !== null ? "border-ink" : "border-rule"}`}
          >
            <input
              id={id}
              inputMode="decimal"
              autoComplete="off"
              className="w-14 bg-transparent text-right outline-none"
              value={draft ?? (sliding !== null ? write(sliding) : shown === null ? "" : write(shown))}
              placeholder="–"
              onChange={(e) => setDraft(e.target.value)}
              onKeyDown={key}
            />
            <span className="w-7 pl-1 text-sm text-faded">{unit}</span>
          </div>
          <button type="button" className={round} aria-label={`${label}: more`} onClick={() => nudge(step)}>
            <Plus size={15} />
          </button>
          <span className="flex w-[4.6rem] justify-start gap-1" aria-live="polite">
            {draft !== null ? (
              <>
                <button type="button" className={`${round} ${wrong ? "" : "bg-ink text-ground hover:bg-ink hover:opacity-85"}`} aria-label={`Apply ${label}`} disabled={wrong} onClick={send}>
                  <Check size={16} />
                </button>
                <button type="button" className={round} aria-label={`Leave ${label} as it is`} onClick={() => setDraft(null)}>
                  <X size={15} />
                </button>
              </>
            ) : (
              <span className={`pl-1 text-sm ${asked !== null ? "font-medium text-ink" : "text-faded"}`}>
                {asked !== null ? "asked…" : set !== null ? "set" : ""}
              </span>
            )}
          </span>
        </div>
      </div>
      {wrong && (
        <p className="mt-1 mb-0 text-right text-sm text-alarm">
          {write(least)} to {write(most)} {unit}
        </p>
      )}
      {slide && (
        <Slider.Root
          min={least}
          max={most}
          step={step}
          value={[Math.min(most, Math.max(least, sliding ?? shown ?? least))]}
          onValueChange={([to]) => setSliding(to!)}
          onValueCommit={([to]) => {
            setSliding(null);
            setDraft(null);
            apply(to!);
          }}
          className="relative mt-1.5 flex h-5 touch-none items-center select-none"
        >
          <Slider.Track className="relative h-1 flex-1 rounded bg-rule">
            <Slider.Range className="absolute h-full rounded bg-faded" />
          </Slider.Track>
          <Slider.Thumb aria-label={`${label}, slid`} className="block h-4 w-4 rounded-full border-2 border-sheet bg-ink" />
        </Slider.Root>
      )}
    </div>
  );
}
