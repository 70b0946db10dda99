/** One of a few, side by side. */
export function Choice(props: {
  label: string;
  options: { key: string; name: string }[];
  value: string;
  choose: (key: string) => void;
}) {
  return (
    <div role="group" aria-label={props.label} className="flex flex-wrap items-center gap-1">
      {props.options.map((o) => (
        <button
          key={o.key}
          type="button"
          aria-pressed={o.key === props.value}
          onClick={() => props.choose(o.key)}
          className="min-h-8 whitespace-nowrap rounded-md px-2.5 text-faded hover:text-ink aria-pressed:bg-sunk aria-pressed:font-semibold aria-pressed:text-ink"
        >
          {o.name}
        </button>
      ))}
    </div>
  );
}
