import { useInfiniteQuery, type keepPreviousData } from "@tanstack/react-query";
import { Button } from "./basics";

type Answered<Item> = { items: Item[]; next?: string | null; total?: number | null };

/** A list of the service, page after page; `ask` takes the cursor of a page, and none for the first. */
export function usePages<Item>(
  key: unknown[],
  ask: (cursor?: string) => Promise<Answered<Item>>,
  options: { placeholderData?: typeof keepPreviousData } = {},
) {
  const pages = useInfiniteQuery({
    ...options,
    queryKey: key,
    queryFn: ({ pageParam }) => ask(pageParam),
    initialPageParam: undefined as string | undefined,
    getNextPageParam: (page) => page.next ?? undefined,
  });
  return {
    rows: pages.data?.pages.flatMap((page) => page.items) ?? [],
    /** Items on all pages, where the service was asked to count them. */
    total: pages.data?.pages[0]?.total ?? undefined,
    first: pages.data?.pages[0],
    error: pages.error,
    pending: pages.isPending,
    /** Fetches the next page; undefined on the last one, and while it is on its way. */
    more: pages.hasNextPage && !pages.isFetchingNextPage ? () => void pages.fetchNextPage() : undefined,
    rest: pages.hasNextPage,
  };
}

export function More({ pages, title = "Show more" }: { pages: { more?: () => void; rest: boolean }; title?: string }) {
  if (!pages.rest) return null;
  return (
    <Button className="mt-4" disabled={!pages.more} onClick={pages.more}>
      {title}
    </Button>
  );
}
