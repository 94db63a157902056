import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { Link, useParams } from "react-router";
import { answer, http, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { Facts, Heading, Loading, Moment, ProblemShown, Short } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { Offers } from "~/parts/offers";
import { Page } from "~/parts/page";
import { Sentence } from "~/parts/sentence";
import { iec, to } from "~/parts/text";
import { EventRows } from "~/ledger/event-rows";

const identityNames: Record<string, string> = {
  machine_id: "Machine id",
  host_keys: "Host keys",
  host_name: "Name it gives itself",
  addresses: "Addresses it has",
};

/** One instance: what it is made from, who it is, what happened to it, what its console says. */
export function Component() {
  const id = useParams().id ?? "";
  const { data, error } = useQuery(ask.instance(id));
  const [asked, setAsked] = useState<Schema["Offer"] | null>(null);
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const one = data.instance;
  const newest = `${one.reference.split("@")[0]}@${one.newest}`;
  return (
    <Page aside={<Offers offers={data.offers} act={(_, offer) => setAsked(offer)} />}>
      <Sentence
        parts={data.sentence}
        leads={{ version: to.version(one.reference), behind: to.version(newest) }}
        under={one.reason ?? undefined}
      />
      {(one.differences ?? []).map((text) => (
        <p key={text} role="alert" className="border-heed mt-3 border-l-2 pl-3">
          It is not as its first-boot settings say: {text}
        </p>
      ))}
      <div className="mt-6">
        <Facts
          rows={[
            ["Id", <Short key="id" text={one.id} keep={20} />],
            ["Machine", one.machine_id && <Short key="m" text={one.machine_id} keep={20} />],
            [
              "Version",
              <Link key="v" to={to.version(one.reference)}>
                {one.reference}
              </Link>,
            ],
            ["Region", one.zone ? `${one.region}, zone ${one.zone}` : one.region],
            ["Size", data.machine_size],
            ["Address", one.address],
            ["Subnet", one.subnet],
            ["Firewall sets", one.subnet && ((one.firewalls ?? []).join(", ") || "none: no port is open")],
            ["Public address", one.public_address],
            ["Host name", data.host_name],
            ...(one.disks ?? []).map((disk): [string, ReactNode] => [
              disk.role === "boot" ? "Boot disk" : `Disk ${disk.role}`,
              `${iec(disk.bytes)}${disk.grown_from ? `, grown from ${iec(disk.grown_from)}` : ""}${disk.kept ? `, kept afterwards (${disk.disk ?? "not made yet"})` : ""}`,
            ]),
            ...Object.entries(one.identity).map(([kind, value]): [string, ReactNode] => [
              identityNames[kind] ?? kind.replaceAll("_", " "),
              Array.isArray(value) ? value.join(" ") : String(value).replaceAll(",", " "),
            ]),
            ["Origin", one.origin === "found" ? "found at the site: nobody launched it here" : "launched here"],
            ["Launched", <Moment key="l" at={one.launched_at} exact />],
            [
              "Launched by",
              data.operation && (
                <Link key="o" to={to.operation(data.operation)}>
                  its operation
                </Link>
              ),
            ],
            ["Last seen", data.seen_at && <Moment key="s" at={data.seen_at} />],
            ["Ended", one.ended_at && <Moment key="e" at={one.ended_at} exact />],
          ]}
        />
      </div>
      <Heading>What happened to it</Heading>
      <EventRows events={data.events} empty="Its launch is in the ledger, under the version." />
      <Heading>Console</Heading>
      <pre
        tabIndex={0}
        aria-label="Console text"
        className="border-hair bg-sheet text-small max-h-80 overflow-auto border p-3 font-mono whitespace-pre-wrap"
      >
        {data.console || "Its site shows no console text."}
      </pre>
      {asked && <Act instance={one} offer={asked} close={() => setAsked(null)} />}
    </Page>
  );
}

function Act({ instance, offer, close }: { instance: Schema["Instance"]; offer: Schema["Offer"]; close: () => void }) {
  const cache = useQueryClient();
  const params = { path: { instance: instance.id } };
  const act = async () => {
    if (offer.name === "terminate") await answer(http.POST("/api/v1/instances/{instance}/terminate", { params }));
    else if (offer.name === "start") await answer(http.POST("/api/v1/instances/{instance}/start", { params }));
    else await answer(http.POST("/api/v1/instances/{instance}/stop", { params }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`${offer.title.replace(/ it$/, "")} ${instance.name}`}
      about={offer.says.join(" ")}
      verb={offer.title}
      typed={offer.loses ? instance.name : undefined}
      loses={offer.loses}
      act={act}
      close={close}
    />
  );
}
