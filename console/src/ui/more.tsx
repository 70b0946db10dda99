import { useEffect, useRef } from "react";

import { Button } from "./button";

interface List {
  hasNextPage: boolean;
  isFetching: boolean;
  isFetchingNextPage: boolean;
  fetchNextPage: () => unknown;
}

/** The end of a list of which there is more: fetches it when it comes near the view, or is asked to. */
export function More({ of }: { of: List }) {
  const end = useRef<HTMLDivElement>(null);
  const { hasNextPage, isFetching, isFetchingNextPage, fetchNextPage } = of;
  useEffect(() => {
    const here = end.current;
    if (!here || !hasNextPage || isFetching) return;
    const watch = new IntersectionObserver(([seen]) => seen?.isIntersecting && void fetchNextPage(), { rootMargin: "600px" });
    watch.observe(here);
    return () => watch.disconnect();
  }, [hasNextPage, isFetching, fetchNextPage]);
  if (!hasNextPage) return null;
  return (
    <div ref={end} className="flex justify-center border-t border-rule py-3">
      <Button kind="quiet" disabled={isFetchingNextPage} onClick={() => void fetchNextPage()}>
        {isFetchingNextPage ? "Fetching more…" : "Show more"}
      </Button>
    </div>
  );
}
