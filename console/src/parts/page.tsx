import type { ReactNode } from "react";

/** A page: what it is about on the left, what one can do and what goes on now on the right; below on a narrow screen. */
export function Page({ children, aside }: { children: ReactNode; aside?: ReactNode }) {
  if (!aside) return <div className="min-w-0">{children}</div>;
  return (
    <div className="grid gap-x-9 gap-y-8 lg:grid-cols-[minmax(0,1fr)_18.25rem]">
      <div className="min-w-0">{children}</div>
      <aside className="flex min-w-0 flex-col gap-8 lg:pt-1">{aside}</aside>
    </div>
  );
}
