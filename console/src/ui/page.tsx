import type { ReactNode } from "react";

import { CallFailed } from "../api/client";
import { Button } from "./button";

/** A page: its title, what belongs beside it, its body; `wide` where it takes all the room there is. */
export function Page({ title, beside, wide, children }: { title: ReactNode; beside?: ReactNode; wide?: boolean; children: ReactNode }) {
  return (
    <div className={`mx-auto w-full ${wide ? "" : "max-w-[1500px]"} px-4 pt-6 pb-24 sm:px-8 sm:pb-12`}>
      <div className="mb-5 flex flex-wrap items-end justify-between gap-x-6 gap-y-3">
        <h1 className="text-[1.75rem] leading-tight font-semibold">{title}</h1>
        {beside}
      </div>
      {children}
    </div>
  );
}

export function Sheet({ children, className = "" }: { children: ReactNode; className?: string }) {
  return <section className={`rounded-lg border border-rule bg-sheet ${className}`}>{children}</section>;
}

export function SheetTitle({ children, beside }: { children: ReactNode; beside?: ReactNode }) {
  return (
    <div className="flex flex-wrap items-baseline justify-between gap-x-4 px-5 pt-4 pb-2">
      <h2 className="text-lg font-semibold">{children}</h2>
      <div className="text-sm text-faded">{beside}</div>
    </div>
  );
}

/** Nothing here yet, and what to do next. */
export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <div className="px-6 py-14 text-center">
      <p className="font-serif text-lg">{title}</p>
      <div className="mt-1.5 text-faded">{children}</div>
    </div>
  );
}

/** Shapes where rows will be: nothing jumps when they arrive. */
export function Loading({ rows = 5, height = "h-14" }: { rows?: number; height?: string }) {
  return (
    <div role="status" aria-label="Loading" className="divide-y divide-rule">
      {Array.from({ length: rows }, (_, i) => (
        <div key={i} className={`${height} flex items-center gap-6 px-5`}>
          <div className="h-3 w-28 rounded bg-sunk" />
          <div className="h-3 flex-1 rounded bg-sunk" style={{ maxWidth: `${70 - i * 6}%` }} />
        </div>
      ))}
    </div>
  );
}

/** Something could not be read: why, and a way to try again. */
export function Failed({ error, again }: { error: Error; again?: () => void }) {
  const gone = error instanceof CallFailed && error.status === 404;
  return (
    <div role="alert" className="px-6 py-12 text-center">
      <p className="font-serif text-lg">{gone ? "Not here" : "This could not be read"}</p>
      <p className="mt-1.5 mb-4 text-faded">{error.message}</p>
      {again && !gone && <Button onClick={again}>Try again</Button>}
    </div>
  );
}

/** One sentence about a change that was refused. */
export function Refusal({ error }: { error: Error | null }) {
  if (!error) return null;
  return (
    <p role="alert" className="rounded-md bg-alarm-wash px-3 py-2 text-sm text-alarm">
      {error.message}
    </p>
  );
}

/** Beside a form's button: whether what is seen is what holds. */
export function HowKept({ touched, kept }: { touched: boolean; kept: boolean }) {
  if (!touched && !kept) return null;
  return <span className="text-sm text-faded">{touched ? "not set yet" : "set"}</span>;
}

export function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="flex justify-between gap-4 border-b border-rule py-1.5 last:border-0">
      <dt className="text-faded">{name}</dt>
      <dd className="m-0 min-w-0 text-right">{children}</dd>
    </div>
  );
}
