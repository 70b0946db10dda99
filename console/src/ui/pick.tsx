/** One of several, in little room: what is chosen is what is read. */
export function Pick(props: { label: string; options: { key: string; name: string }[]; value: string; choose: (key: string) => void }) {
  return (
    <select
      aria-label={props.label}
      value={props.value}
      onChange={(e) => props.choose(e.target.value)}
      className={`min-h-9 max-w-44 rounded-md border border-rule bg-sheet px-2 text-sm ${props.value ? "font-semibold text-ink" : "text-faded"}`}
    >
      {props.options.map((o) => (
        <option key={o.key} value={o.key}>
          {o.name}
        </option>
      ))}
    </select>
  );
}
