import type { Schema } from "~/api/client";
import { Button } from "./basics";

type Offer = Schema["Offer"];

/** What one can do with a thing: each verb with what it would do, or why not, and the step that makes it possible. */
export function Offers({ offers, act }: { offers: Offer[]; act: (name: string, offer: Offer) => void }) {
  return (
    <section aria-label="What you can do">
      <h2 className="text-label text-ink-2 mb-1 font-semibold">What you can do</h2>
      <ul>
        {offers.map((offer) => (
          <li key={offer.name} className="border-hair border-b py-2.5">
            {offer.possible ? (
              <Button
                kind="quiet"
                className={offer.loses ? "text-heed! font-semibold" : "font-semibold"}
                onClick={() => act(offer.name, offer)}
              >
                {offer.title}
              </Button>
            ) : (
              <span className="text-ink-2 font-semibold">{offer.title}</span>
            )}
            <p className="text-small text-ink-2">
              {!offer.possible && <span className="sr-only">Not possible now: </span>}
              {offer.says.join(" ")}{" "}
              {offer.way && (
                <button type="button" className="text-link hover:underline" onClick={() => act(offer.way!.name, offer)}>
                  {offer.way.title}
                </button>
              )}
            </p>
          </li>
        ))}
      </ul>
    </section>
  );
}
