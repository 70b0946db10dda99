import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";

import { type Answer, value } from "./client";

/** One page of a list, and where the next begins. */
export interface PageOf<T> {
  rows: T;
  next: string | undefined;
}

/** The address of the next page in an answer's Link header (RFC 8288): its `after`. */
function nextOf(response: Response): string | undefined {
  const url = /<([^>]*)>;\s*rel="next"/.exec(response.headers.get("Link") ?? "")?.[1];
  return url ? (new URL(url, window.location.href).searchParams.get("after") ?? undefined) : undefined;
}

async function page<T>(asked: Promise<Answer<T>>): Promise<PageOf<T>> {
  const answer = await asked;
  return { rows: await value(Promise.resolve(answer)), next: nextOf(answer.response) };
}

type Ask<T> = (after: string | undefined) => Promise<Answer<T>>;

/** A list of which more is fetched when it comes into view; `data` is what is there, by pages. */
export const usePages = <T>(queryKey: unknown[], ask: Ask<T>, refetchInterval: number | false = false) =>
  useInfiniteQuery({
    queryKey,
    queryFn: ({ pageParam }) => page(ask(pageParam)),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (last: PageOf<T>) => last.next,
    placeholderData: keepPreviousData,
    refetchInterval,
  });

/** The same where each page is rows; `data` is all rows that are there. */
export function useRows<R>(queryKey: unknown[], ask: Ask<R[]>, refetchInterval: number | false = false) {
  const { data, ...rest } = usePages(queryKey, ask, refetchInterval);
  return { ...rest, data: data?.pages.flatMap((p) => p.rows) };
}

/** A whole list, page by page: for what must be chosen from. */
export async function everyRow<R>(ask: Ask<R[]>): Promise<R[]> {
  const found: R[] = [];
  let after: string | undefined;
  do {
    const { rows, next } = await page(ask(after));
    found.push(...rows);
    after = next;
  } while (after);
  return found;
}
