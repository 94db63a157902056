/** A state is a word and a shape, never a colour alone. */

const shapes: Record<string, string> = {
  staged: "ring",
  released: "full",
  sunset: "half",
  retired: "dots",
  purged: "cross",
  pending: "ring",
  starting: "ring",
  running: "full",
  stopped: "half",
  lost: "cross",
  terminated: "dots",
  failed: "cross",
  queued: "ring",
  succeeded: "full",
  cancelled: "dots",
  proposed: "ring",
  active: "full",
  ended: "dots",
  declined: "dots",
  ready: "full",
  coming: "half",
  draining: "half",
  damaged: "cross",
  removed: "dots",
};
const words: Record<string, string> = { sunset: "in sunset" };

export function Shape({ state }: { state: string }) {
  const shape = shapes[state] ?? "ring";
  const heed = ["failed", "damaged", "lost"].includes(state);
  return (
    <svg viewBox="0 0 12 12" width="10" height="10" aria-hidden className={heed ? "text-heed" : "text-ink"}>
      <circle
        cx="6"
        cy="6"
        r="4.6"
        fill={shape === "full" ? "currentColor" : "none"}
        stroke="currentColor"
        strokeWidth="1.4"
        strokeDasharray={shape === "dots" ? "1.6 1.6" : undefined}
      />
      {shape === "half" && <path d="M6 1.4a4.6 4.6 0 0 0 0 9.2z" fill="currentColor" />}
      {shape === "cross" && <path d="M3 3l6 6M9 3l-6 6" stroke="currentColor" strokeWidth="1.4" />}
    </svg>
  );
}

export function State({ state, children }: { state: string; children?: React.ReactNode }) {
  return (
    <span className="inline-flex items-baseline gap-1.5">
      <span className="relative top-px">
        <Shape state={state} />
      </span>
      <span>
        {words[state] ?? state}
        {children}
      </span>
    </span>
  );
}
