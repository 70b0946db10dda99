import { type RefObject, useEffect, useRef, useState } from "react";

/** An element that something is drawn into, anew whenever its width changes or `draw` does. `draw` must be kept by
 * useCallback. */
export function useDrawn(draw: (width: number) => Element): RefObject<HTMLDivElement | null> {
  const host = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const seen = new ResizeObserver(() => setWidth(Math.round(element.clientWidth)));
    seen.observe(element);
    return () => seen.disconnect();
  }, []);
  useEffect(() => {
    const element = host.current;
    if (!element || width === 0) return;
    const drawn = draw(width);
    drawn.setAttribute("role", "img");
    element.replaceChildren(drawn);
    return () => drawn.remove();
  }, [draw, width]);
  return host;
}
