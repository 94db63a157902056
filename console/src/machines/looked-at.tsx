import type { Schema } from "~/api/client";

type Remark = Schema["Remark"];

const order = { obstacle: 0, warning: 1, ok: 2 };
const ordered = (remarks: Remark[]) => [...remarks].sort((a, b) => order[a.outcome] - order[b.outcome]);
const tone = { obstacle: "text-heed font-semibold", warning: "font-semibold", ok: "text-fair" };

/** Each thing that was looked at, what is in the way first. */
export const LookedAt = ({ remarks }: { remarks: Remark[] }) => (
  <ul>
    {ordered(remarks).map((remark, place) => (
      <li key={`${remark.check} ${place}`} className="border-hair grid grid-cols-[6rem_1fr] gap-x-3 border-b py-2">
        <span className={tone[remark.outcome]}>{remark.outcome === "ok" ? "in order" : remark.outcome}</span>
        <div>
          <p>{remark.why}</p>
          {remark.advice && <p className="text-small text-ink-2">{remark.advice}</p>}
        </div>
      </li>
    ))}
  </ul>
);
