import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, http, since, type Schema } from "~/api/client";
import { Button } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { to } from "~/parts/text";

type Use = Schema["PartUse"];
type Sheet = Schema["SavedSheetDetails"];

/** Which text of a saved part a sheet has, and taking a newer one. */
export function PartUsed({ use, sheet }: { use: Use; sheet: Sheet }) {
  const cache = useQueryClient();
  const [asked, setAsked] = useState(false);
  if (use.number === null) return <>its text stays here; the part is not kept any more</>;
  const take = async () => {
    const { name, text, values, files: payload } = sheet;
    const body = { sheet: text, values, payload, newest_parts: [use.name], note: `the newest of ${use.name}` };
    const params = { path: { name }, header: since(sheet.revision ?? "") };
    await answer(http.PUT("/api/v1/saved-sheets/{name}", { params, body }));
    await cache.invalidateQueries();
  };
  return (
    <>
      <Link to={to.sheet(use.name)}>text {use.number}</Link>
      {use.newest !== use.number && (
        <>
          ; its newest is {use.newest}.{" "}
          {sheet.offers.some((offer) => offer.name === "change" && offer.possible) && (
            <Button kind="quiet" onClick={() => setAsked(true)}>
              Take text {use.newest} of {use.name}
            </Button>
          )}
        </>
      )}
      {asked && (
        <Confirm
          title={`Take text ${use.newest} of ${use.name}`}
          about={`${sheet.name} is saved again with it. Runs that have begun keep the text that they have.`}
          verb="Take it"
          act={take}
          close={() => setAsked(false)}
        />
      )}
    </>
  );
}
