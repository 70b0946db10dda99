import { Field, inputLook } from "./dialog";

interface Option<K> {
  key: K;
  name: string;
}

/** Some of several things: those picked stand below and go at a press; what is not picked yet is in the list. */
export function Picked<K extends string | number>(props: { label: string; value: K[]; options: Option<K>[]; change: (to: K[]) => void }) {
  const name = (key: K) => props.options.find((o) => o.key === key)?.name ?? String(key);
  const left = props.options.filter((o) => !props.value.includes(o.key));
  return (
    <div className="flex min-w-0 flex-col gap-1.5">
      <Field label={props.label}>
        <select
          className={inputLook}
          value=""
          disabled={left.length === 0}
          onChange={(e) => props.change([...props.value, left[Number(e.target.value)]!.key])}
        >
          <option value="">{props.value.length > 0 ? "and…" : left.length > 0 ? "all" : "none here"}</option>
          {left.map((o, n) => (
            <option key={o.key} value={n}>
              {o.name}
            </option>
          ))}
        </select>
      </Field>
      {props.value.length > 0 && (
        <ul aria-label={`${props.label} picked`} className="m-0 flex list-none flex-wrap gap-1 p-0">
          {props.value.map((key) => (
            <li key={key}>
              <button
                type="button"
                aria-label={`Without ${name(key)}`}
                className="inline-flex min-h-7 max-w-full items-center gap-1.5 rounded-md bg-sunk px-2 text-sm hover:text-alarm"
                onClick={() => props.change(props.value.filter((k) => k !== key))}
              >
                <span className="truncate">{name(key)}</span> <span aria-hidden>×</span>
              </button>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
