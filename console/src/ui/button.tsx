import type { ButtonHTMLAttributes } from "react";

type Kind = "plain" | "strong" | "danger" | "quiet";

const LOOKS: Record<Kind, string> = {
  plain: "border border-rule bg-sheet hover:bg-sunk",
  strong: "bg-ink text-ground hover:opacity-85",
  danger: "border border-alarm/40 text-alarm bg-sheet hover:bg-alarm-wash",
  quiet: "text-faded hover:text-ink hover:bg-sunk",
};

/** While `asked` it says so and cannot be pressed again: the machine has not done it yet. */
export function Button({
  kind = "plain",
  asked = false,
  children,
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: Kind; asked?: boolean }) {
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
