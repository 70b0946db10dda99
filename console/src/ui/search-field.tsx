import { Search } from "lucide-react";

interface Props {
  label: string;
  hint: string;
  words: string;
  change: (words: string) => void;
  className?: string;
}

/** Narrows what is shown while one types. */
export function SearchField({ label, hint, words, change, className = "min-w-44" }: Props) {
  return (
    <label className={`relative ${className}`}>
      <span className="sr-only">{label}</span>
      <Search size={16} aria-hidden className="absolute top-1/2 left-3 -translate-y-1/2 text-faded" />
      <input
        type="search"
        placeholder={hint}
        className="min-h-9 w-full rounded-md border border-rule bg-sheet pr-3 pl-9 text-sm"
        value={words}
        onChange={(e) => change(e.target.value)}
      />
    </label>
  );
}
