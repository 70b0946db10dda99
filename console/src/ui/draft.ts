import { useState } from "react";

/**
 * What is typed over what is kept. A field that nobody touched follows what is kept; one that was touched
 * stays as it was typed, whatever comes from the service, until it is kept itself.
 */
export function useDraft<T extends object>(kept: T) {
  const [typed, setTyped] = useState<Partial<T>>({});
  return {
    now: { ...kept, ...typed },
    typed,
    touched: Object.entries(typed).some(([key, value]) => value !== kept[key as keyof T]),
    type: (fields: Partial<T>) => setTyped((before) => ({ ...before, ...fields })),
    /** Let go of what was sent; what was typed since stays. */
    sent: (fields: Partial<T>) =>
      setTyped((before) => Object.fromEntries(Object.entries(before).filter(([key, value]) => fields[key as keyof T] !== value)) as Partial<T>),
  };
}
