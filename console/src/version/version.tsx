import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { ask } from "~/api/queries";
import { Loading, ProblemShown } from "~/parts/basics";
import { Offers } from "~/parts/offers";
import { Page } from "~/parts/page";
import { Sentence } from "~/parts/sentence";
import { PageParts } from "~/parts/tabs";
import { away, day, to } from "~/parts/text";
import { Contents } from "./contents";
import { Difference } from "./difference";
import { VersionDialog } from "./dialogs";
import { About } from "./about";
import { Findings } from "./findings";
import { Happened } from "~/ledger/happened";
import { Checks } from "./checks";
import { Proof } from "./proof";
import { Where } from "./where";

const parts = [
  ["about", "About it"],
  ["contents", "Contents"],
  ["difference", "What changed"],
  ["findings", "Findings"],
  ["proof", "Proof sheet"],
  ["checks", "Checks"],
  ["where", "Where it is"],
  ["events", "What happened"],
] as const;

/** What is in a version, what changed since the one before, where it is, who runs it, and what can be done. */
export function Component() {
  const reference = decodeURIComponent(useParams()["*"] ?? "");
  const [search, setSearch] = useSearchParams();
  const go = useNavigate();
  const [asked, setAsked] = useState("");
  const { data, error } = useQuery(ask.version(reference));
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const { version } = data;
  const wanted = search.get("show") ?? "about";
  const show = parts.some(([name]) => name === wanted) ? wanted : "about";
  const turn = (part: string) => setSearch(part === "about" ? {} : { show: part }, { replace: true });
  const act = (verb: string) => {
    if (verb === "launch") void go(to.launch(version.reference));
    else if (verb === "findings") turn("findings");
    else if (verb === "holds") turn("where");
    else if (verb === "instances") void go(to.instances({ reference: version.reference }));
    else setAsked(verb);
  };
  const shared = data.shared_with.length ? ` Shared with ${data.shared_with.join(" and ")}.` : "";
  const released = version.released_at
    ? `Released ${day(version.released_at)}, ${away(version.released_at)}.`
    : `Made ${day(version.created_at)}, ${away(version.created_at)}.`;
  return (
    <Page aside={<Offers offers={data.offers} act={act} />}>
      <Sentence
        parts={data.sentence}
        leads={{
          instances: to.instances({ reference: version.reference }),
          findings: to.version(reference, "findings"),
        }}
        under={`${version.notes} ${released}${shared}`.trim()}
      />
      <PageParts
        parts={parts}
        open={show}
        turn={turn}
        badge={(name) =>
          name === "findings" &&
          version.findings.open_high > 0 && <span className="text-heed"> {version.findings.open_high} open</span>
        }
      >
        {show === "about" && <About overview={data} />}
        {show === "contents" && <Contents version={version} />}
        {show === "difference" && <Difference version={version} />}
        {show === "findings" && <Findings reference={reference} />}
        {show === "proof" && <Proof reference={reference} />}
        {show === "checks" && <Checks reference={reference} />}
        {show === "where" && <Where overview={data} />}
        {show === "events" && <Happened subject={version.reference} />}
      </PageParts>
      {asked && <VersionDialog verb={asked} overview={data} close={() => setAsked("")} />}
    </Page>
  );
}
