import { useSearchParams } from "react-router";

/** How a list is sorted, by the service's name of the order, and how that is changed. */
export type Order = { sort: string; sortBy: (sort: string) => void };

/** The order of a page's list, kept in its address; one that the list does not know is its usual one. */
export function useOrder<Sort extends string>(keys: readonly string[], usual: Sort): Order & { sort: Sort } {
  const [search, setSearch] = useSearchParams();
  const given = search.get("sort") ?? "";
  const known = keys.includes(given.replace(/^-/, ""));
  return {
    sort: (known ? given : usual) as Sort,
    sortBy: (sort) =>
      setSearch(
        (before) => {
          const next = new URLSearchParams(before);
          if (sort === usual) next.delete("sort");
          else next.set("sort", sort);
          return next;
        },
        { replace: true },
      ),
  };
}

/** The state of a sorted column, as assistive technology needs it. */
export const ariaSort = (key: string | undefined, order: Order | undefined) =>
  key && order ? (order.sort === key ? "ascending" : order.sort === `-${key}` ? "descending" : "none") : undefined;

/** A heading that sorts, where the service can: once up, once down. */
export function SortHead({ head, by, order }: { head: string; by?: string; order?: Order }) {
  if (!by || !order) return head;
  const up = order.sort === by;
  const down = order.sort === `-${by}`;
  return (
    <button
      type="button"
      title={`Sort by ${head}`}
      className="hover:text-ink decoration-ink-3 font-semibold underline decoration-dotted underline-offset-4"
      onClick={() => order.sortBy(up ? `-${by}` : by)}
    >
      {head}
      <span aria-hidden>{up ? " ↑" : down ? " ↓" : ""}</span>
    </button>
  );
}
