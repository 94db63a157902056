import clsx from "clsx";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schema } from "~/api/client";

/** The sentence with which a page begins; its parts lead to what they speak of. */
export function Sentence({
  parts,
  leads = {},
  under,
}: {
  parts: Schema["Part"][];
  leads?: Record<string, string>;
  under?: ReactNode;
}) {
  return (
    <header className="max-w-[46rem]">
      <h1 className="text-say">
        {parts.map((part, place) => {
          const look = clsx(part.strong && "font-semibold", part.heed && "text-heed", !part.strong && "font-medium");
          const lead = part.about ? leads[part.about] : undefined;
          return lead ? (
            <Link
              key={place}
              to={lead}
              className={clsx(
                look,
                !part.heed && "text-ink",
                "decoration-depth-3 underline decoration-2 underline-offset-4",
              )}
            >
              {whole(part.text)}
            </Link>
          ) : (
            <span key={place} className={look}>
              {whole(part.text)}
            </span>
          );
        })}
      </h1>
      {under && <p className="text-body text-ink-2 mt-1">{under}</p>}
    </header>
  );
}

/** A text whose names do not break at their hyphens, unless one is longer than a line. */
function whole(text: string): ReactNode {
  return text.split(/([\w@.]+-[\w@.-]*[\w])/).map((piece, place) =>
    place % 2 ? (
      <span key={place} className="inline-block max-w-full wrap-anywhere">
        {piece}
      </span>
    ) : (
      piece
    ),
  );
}

/** The sentence of a page that is not about one thing. */
export const Says = ({ children, under }: { children: string; under?: ReactNode }) => (
  <Sentence parts={[{ text: children, about: "", heed: false, strong: false }]} under={under} />
);
