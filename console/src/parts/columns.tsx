import { DropdownMenu } from "radix-ui";
import { useState } from "react";

const KEPT = "bathotype.columns";

function kept(table: string): string[] {
  try {
    return (JSON.parse(localStorage.getItem(`${KEPT}.${table}`) ?? "[]") as string[]) ?? [];
  } catch {
    return [];
  }
}

/** The columns of a table that somebody wants to see: remembered in this browser under the table's name. */
export function useColumns<Column extends { head: string }>(table: string, all: Column[]) {
  const [hidden, setHidden] = useState(() => kept(table));
  const hide = (head: string, away: boolean) => {
    const next = away ? [...hidden, head] : hidden.filter((one) => one !== head);
    localStorage.setItem(`${KEPT}.${table}`, JSON.stringify(next));
    setHidden(next);
  };
  const shown = all.filter((column) => !hidden.includes(column.head));
  return {
    shown,
    chooser: (
      <Chooser
        heads={all
          .slice(1)
          .map((c) => c.head)
          .filter(Boolean)}
        hidden={hidden}
        hide={hide}
      />
    ),
  };
}

/** The first column names the row and stays. */
function Chooser({
  heads,
  hidden,
  hide,
}: {
  heads: string[];
  hidden: string[];
  hide: (head: string, away: boolean) => void;
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="text-small text-link hover:underline">Columns</DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          className="rounded-edge border-rule bg-paper text-body z-30 min-w-44 border p-1"
          loop
        >
          {heads.map((head) => (
            <DropdownMenu.CheckboxItem
              key={head}
              checked={!hidden.includes(head)}
              onCheckedChange={(on) => hide(head, !on)}
              onSelect={(event) => event.preventDefault()}
              className="rounded-edge data-highlighted:bg-sheet flex cursor-default gap-2 px-2 py-1 outline-none"
            >
              <span aria-hidden className="w-4">
                {hidden.includes(head) ? "" : "✓"}
              </span>
              {head}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
