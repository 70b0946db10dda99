import { Field, inputLook } from "../../ui/dialog";

export type Secrecy = "starttls" | "tls" | "none";

/** How a conversation with a server is kept secret. */
export function KeptSecret(props: { label: string; value: Secrecy; set: (value: Secrecy) => void }) {
  return (
    <Field label={props.label}>
      <select className={inputLook} value={props.value} onChange={(e) => props.set(e.target.value as Secrecy)}>
        <option value="starttls">STARTTLS</option>
        <option value="tls">TLS</option>
        <option value="none">nothing</option>
      </select>
    </Field>
  );
}

/** A password that is kept and never shown; left empty it stays as it was. */
export function KeptPassword(props: { label: string; has: boolean; value: string; set: (value: string) => void }) {
  return (
    <Field label={props.label}>
      <input
        className={inputLook}
        type="password"
        autoComplete="new-password"
        maxLength={400}
        placeholder={props.has ? "kept as it is" : ""}
        value={props.value}
        onChange={(e) => props.set(e.target.value)}
      />
    </Field>
  );
}
