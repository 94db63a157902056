import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, type Schema } from "~/api/client";
import { useSession } from "~/app/session";
import { Button, Empty, Heading, Loading, ProblemShown } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { More, usePages } from "~/parts/paged";
import { State } from "~/parts/state";
import { Table } from "~/parts/table";
import { day, plural } from "~/parts/text";

type Share = Schema["Share"];
type Verb = "acceptance" | "refusal" | "end";

const words: Record<Verb, [string, string]> = {
  acceptance: ["Accept", "Its released versions can be launched here from then on, and are listed with your lines."],
  refusal: ["Decline", "Nothing is granted."],
  end: ["End", "No more launches from it; what runs keeps running."],
};

export function Shares() {
  const pages = usePages(["shares"], (cursor) =>
    answer(http.GET("/api/v1/shares", { params: { query: { limit: 100, cursor } } })),
  );
  const { account, may } = useSession();
  const [asked, setAsked] = useState<[Verb, Share] | null>(null);
  if (pages.error) return <ProblemShown problem={pages.error} />;
  if (pages.pending) return <Loading />;
  const into = pages.rows.filter((share) => share.owner !== account);
  const out = pages.rows.filter((share) => share.owner === account);
  const verbs = (share: Share): Verb[] => {
    if (!may("share")) return [];
    if (share.state === "proposed") return share.owner === account ? ["end"] : ["acceptance", "refusal"];
    return share.state === "active" ? ["end"] : [];
  };
  const table = (label: string, rows: Share[]) => (
    <Table
      label={label}
      rows={rows}
      id={(share) => share.id}
      columns={[
        {
          head: "what",
          cell: (share) => (
            <span className="font-semibold">
              {share.owner === account ? share.subject : `${share.owner}/${share.subject}`}
            </span>
          ),
        },
        { head: "with", cell: (share) => (share.owner === account ? (share.consumer ?? "everyone") : account) },
        { head: "state", cell: (share) => <State state={share.expired ? "ended" : share.state} /> },
        { head: "regions", cell: (share) => share.regions?.join(", ") ?? "all" },
        { head: "until", cell: (share) => (share.until ? day(share.until) : "") },
        { head: "note", cell: (share) => <span className="text-ink-2">{share.note}</span> },
        { head: "running", number: true, cell: (share) => share.running },
        {
          head: "",
          cell: (share) => (
            <span className="flex gap-3">
              {verbs(share).map((verb) => (
                <Button
                  key={verb}
                  kind="quiet"
                  onClick={() => setAsked([verb, share])}
                  aria-label={`${words[verb][0]} ${share.subject}`}
                >
                  {words[verb][0]}
                </Button>
              ))}
            </span>
          ),
        },
      ]}
    />
  );
  return (
    <>
      <Heading>Offered to {account}</Heading>
      {into.length ? table("Shares in", into) : <Empty>No other account has offered anything.</Empty>}
      <Heading>Offered by {account}</Heading>
      {out.length ? table("Shares out", out) : <Empty>Nothing is shared. Open a line and share it.</Empty>}
      <More pages={pages} title="Earlier ones" />
      {asked && <Act verb={asked[0]} share={asked[1]} close={() => setAsked(null)} />}
    </>
  );
}

function Act({ verb, share, close }: { verb: Verb; share: Share; close: () => void }) {
  const cache = useQueryClient();
  const params = { path: { share: share.id } };
  const act = async () => {
    if (verb === "acceptance") await answer(http.POST("/api/v1/shares/{share}/acceptance", { params }));
    else if (verb === "refusal") await answer(http.POST("/api/v1/shares/{share}/refusal", { params }));
    else await answer(http.POST("/api/v1/shares/{share}/end", { params }));
    await cache.invalidateQueries();
  };
  const [name, about] = words[verb];
  const runs =
    share.running && verb === "end"
      ? ` ${plural(share.running, "instance")} of it run${share.running === 1 ? "s" : ""}.`
      : "";
  return (
    <Confirm
      title={`${name} the share of ${share.owner}/${share.subject}`}
      about={about + runs}
      verb={name}
      loses={verb !== "acceptance"}
      act={act}
      close={close}
    />
  );
}
