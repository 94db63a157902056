import { Tabs } from "radix-ui";
import type { ReactNode } from "react";
import { useInSight } from "./sight";

/** The parts of a page, of which one is open; `badge` is shown beside a title. */
export function PageParts(props: {
  parts: readonly (readonly [string, string, ...unknown[]])[];
  open: string;
  turn: (part: string) => void;
  badge?: (part: string) => ReactNode;
  children: ReactNode;
}) {
  const row = useInSight<HTMLDivElement>("[data-state=active]", props.open);
  return (
    <Tabs.Root value={props.open} onValueChange={props.turn} className="mt-5">
      <Tabs.List ref={row} className="border-rule flex gap-5 overflow-x-auto border-b" aria-label="Parts of this page">
        {props.parts.map(([name, title]) => (
          <Tabs.Trigger
            key={name}
            value={name}
            className="text-small text-ink-2 data-[state=active]:border-ink data-[state=active]:text-ink border-b-2 border-transparent py-1.5 whitespace-nowrap data-[state=active]:font-semibold"
          >
            {title}
            {props.badge?.(name)}
          </Tabs.Trigger>
        ))}
      </Tabs.List>
      <Tabs.Content value={props.open} tabIndex={-1} className="pt-4 outline-none">
        {props.children}
      </Tabs.Content>
    </Tabs.Root>
  );
}
