import type { ButtonHTMLAttributes } from "react";

import type { Right } from "../api/client";
import { type At, useMay } from "../api/may";

type Kind = "plain" | "strong" | "danger" | "quiet";

const LOOKS: Record<Kind, string> = {
  plain: "border border-rule bg-sheet hover:bg-sunk",
  strong: "bg-ink text-ground hover:opacity-85",
  danger: "border border-alarm/40 text-alarm bg-sheet hover:bg-alarm-wash",
  quiet: "text-faded hover:text-ink hover:bg-sunk",
};
type Props = ButtonHTMLAttributes<HTMLButtonElement> & { kind?: Kind; asked?: boolean };

/** While `asked` it says so and cannot be pressed again: the machine has not done it yet. With `needs` only those can press it
 * who have the right (`at` the machine); others see why not. */
export function Button({ needs, at, ...rest }: Props & { needs?: Right; at?: At }) {
  return needs ? <Allowed needs={needs} at={at} {...rest} /> : <Plain {...rest} />;
}

function Allowed({ needs, at, ...rest }: Props & { needs: Right; at?: At }) {
  const why = useMay()(needs, at);
  if (why === null) return <Plain {...rest} />;
  const held = { "aria-disabled": true, "aria-description": why, title: why, type: "button" as const, onClick: undefined };
  return <Plain {...rest} {...held} className={`${rest.className ?? ""} cursor-not-allowed opacity-50`} />;
}

function Plain({ kind = "plain", asked = false, children, className = "", ...rest }: Props) {
  return (
    <button
      type="button"
      {...rest}
      disabled={rest.disabled || asked}
      className={`inline-flex min-h-9 items-center justify-center gap-2 rounded-md px-3.5 text-sm font-medium whitespace-nowrap disabled:opacity-50 ${LOOKS[kind]} ${className}`}
    >
      {asked ? "Asked…" : children}
    </button>
  );
}
