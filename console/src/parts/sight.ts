import { useEffect, useRef } from "react";

/** For a row that is wider than a small screen: what is marked in it is brought into its middle, at first and when `at`
 * changes.  The page itself stays where it is. */
export function useInSight<Row extends HTMLElement>(marked: string, at: string) {
  const row = useRef<Row>(null);
  useEffect(() => {
    const one = row.current?.querySelector(marked);
    if (!row.current || !one) return;
    const [around, inner] = [row.current.getBoundingClientRect(), one.getBoundingClientRect()];
    row.current.scrollLeft += inner.left - around.left - (around.width - inner.width) / 2;
  }, [marked, at]);
  return row;
}
