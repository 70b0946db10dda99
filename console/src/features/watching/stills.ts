interface Connection {
  saveData?: boolean;
  effectiveType?: string;
}

/** Whether pictures are to stand still: on a phone, on a slow line, or where somebody saves data. */
export function stills(): boolean {
  const connection = (navigator as { connection?: Connection }).connection;
  const slow = connection?.saveData === true || ["slow-2g", "2g", "3g"].includes(connection?.effectiveType ?? "");
  return slow || window.matchMedia("(max-width: 639px)").matches;
}
