import type { Schema } from "~/api/client";

type Fault = Schema["SheetFault"];

/** A sheet with line numbers: names, comments and what is in quotes apart from the rest; faults below their lines. */
export function SheetText({ text, faults = [] }: { text: string; faults?: Fault[] }) {
  return (
    <pre
      className="border-hair text-small overflow-x-auto border-y py-2 font-mono leading-5"
      tabIndex={0}
      role="region"
      aria-label="Text of the sheet"
    >
      {text
        .replace(/\n$/, "")
        .split("\n")
        .map((line, at) => (
          <div key={at} className="grid grid-cols-[2.75rem_1fr]">
            <span aria-hidden className="text-ink-3 pr-3 text-right select-none">
              {at + 1}
            </span>
            <span>
              <Line text={line} />
              {faults
                .filter((fault) => fault.line === at + 1)
                .map((fault) => (
                  <span key={fault.message} className="text-heed block whitespace-normal">
                    {fault.message}
                  </span>
                ))}
            </span>
          </div>
        ))}
    </pre>
  );
}

const pieces = /(#.*$)|("[^"]*"|'[^']*')|([\w-]+)(?=:(?:\s|$))|([^#"'\w]+|[\w-]+|.)/g;

function Line({ text }: { text: string }) {
  return (
    <>
      {[...text.matchAll(pieces)].map(([all, comment, quoted, name], at) => (
        <span
          key={at}
          className={comment ? "text-ink-3 italic" : quoted ? "text-fair" : name ? "font-semibold" : undefined}
        >
          {all}
        </span>
      ))}
    </>
  );
}

/** A unified difference: what went is struck through, what came is in colour. */
export function Difference({ lines }: { lines: string[] }) {
  return (
    <pre
      className="border-hair text-small overflow-x-auto border-y py-2 font-mono leading-5"
      tabIndex={0}
      role="region"
      aria-label="Difference"
    >
      {lines.slice(2).map((line, at) => (
        <div
          key={at}
          className={line.startsWith("+") ? "text-fair" : line.startsWith("-") ? "text-heed" : "text-ink-2"}
        >
          {line || " "}
        </div>
      ))}
    </pre>
  );
}
