import { useSearchParams } from "react-router";

/** What is chosen on a page is in its address, so that a view can be kept and passed on: what it says, and a change of it. An empty text leaves a name out. */
export function useAddress(): [(name: string) => string, (wish: Record<string, string | number>) => void] {
  const [asked, setAsked] = useSearchParams();
  const change = (wish: Record<string, string | number>) => {
    const next = new URLSearchParams(window.location.search); // `asked` may be one change behind it
    for (const [name, to] of Object.entries(wish)) {
      if (to === "") next.delete(name);
      else next.set(name, `${to}`);
    }
    setAsked(next, { replace: true });
  };
  return [(name) => asked.get(name) ?? "", change];
}
