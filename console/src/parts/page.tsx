import clsx from "clsx";
import { Children, type ReactNode } from "react";

/**
 * A page: first its sentence, then what it is about, and at the right what one can do and what goes on now; on a narrow
 * screen that comes right below the sentence, or `last`.
 */
export function Page({ children, aside, last }: { children: ReactNode; aside: ReactNode; last?: boolean }) {
  const [sentence, ...rest] = Children.toArray(children);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-x-9 lg:grid-cols-[minmax(0,1fr)_18.25rem] lg:grid-rows-[auto_1fr]">
      <div>{sentence}</div>
      <aside
        className={clsx(
          "flex min-w-0 flex-col gap-8 max-lg:mt-6 lg:col-start-2 lg:row-span-2 lg:row-start-1 lg:pt-1",
          last && "max-lg:order-last",
        )}
      >
        {aside}
      </aside>
      <div className="min-w-0 [&>*:first-child]:mt-6">{rest}</div>
    </div>
  );
}
