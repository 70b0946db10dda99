import { useEffect, useState } from "react";

export const LEAST_PX = 140;
export const GAP_PX = 12;
/** What stands under each picture. */
export const FOOT_PX = 58;

/** How many columns show `count` pictures of 4:3 as large as they fit into a room; what does not fit at the least size is scrolled to. */
export function columnsFor(count: number, wide: number, high: number): { columns: number; fits: boolean } {
  const most = Math.max(wide < 400 ? 1 : 2, Math.floor((wide + GAP_PX) / (LEAST_PX + GAP_PX)));
  for (let columns = 1; columns <= most; columns += 1) {
    const tile = (wide - GAP_PX * (columns - 1)) / columns;
    const rows = Math.ceil(count / columns);
    if (rows * (tile * 0.75 + FOOT_PX) + GAP_PX * (rows - 1) <= high) return { columns, fits: true };
  }
  return { columns: Math.max(1, Math.floor(wide / (wide < 700 ? 160 : 220))), fits: false };
}

/** The size of an element as it is now, px, and where it begins. */
export function useRoom(element: HTMLElement | null) {
  const [room, setRoom] = useState({ wide: 0, high: 0 });
  useEffect(() => {
    if (!element) return;
    const measure = () => setRoom({ wide: element.clientWidth, high: window.innerHeight - element.getBoundingClientRect().top - window.scrollY });
    const observer = new ResizeObserver(measure);
    observer.observe(element);
    window.addEventListener("resize", measure);
    measure();
    return () => {
      observer.disconnect();
      window.removeEventListener("resize", measure);
    };
  }, [element]);
  return room;
}
