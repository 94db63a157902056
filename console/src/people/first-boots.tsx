import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, fresh, http, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { SecretFiles, type SecretFile } from "~/launch/secret-files";
import { Button, Empty, Loading, ProblemShown } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { NameField, TextField } from "~/parts/form";
import { Table } from "~/parts/table";

/** First-boot settings that are saved under a name, for launches. */
export function FirstBoots() {
  const { data, error } = useQuery(ask.firstBoot());
  const { may } = useSession();
  const [asked, setAsked] = useState<"save" | string | null>(null);
  const cache = useQueryClient();
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const drop = async (name: string) => {
    await answer(http.DELETE("/api/v1/first-boot/{name}", { params: { path: { name } } }));
    await cache.invalidateQueries();
  };
  return (
    <>
      {may("operate") && <Button onClick={() => setAsked("save")}>Save settings</Button>}
      {data.length ? (
        <Table
          label="First-boot settings"
          rows={data}
          id={(one) => one.name}
          columns={[
            { head: "name", cell: (one) => <span className="font-semibold">{one.name}</span> },
            { head: "domain", cell: (one) => one.settings.domain },
            { head: "time zone", cell: (one) => one.settings.time_zone },
            { head: "locale", cell: (one) => one.settings.locale },
            {
              head: "secrets",
              cell: (one) => (one.settings.secrets ?? []).map((file) => file.secret).join(", "),
            },
            { head: "users", cell: (one) => (one.settings.users ?? []).map((user) => user.name).join(", ") },
            {
              head: "",
              cell: (one) =>
                may("operate") && (
                  <Button kind="quiet" onClick={() => setAsked(`drop ${one.name}`)} aria-label={`Remove ${one.name}`}>
                    Remove
                  </Button>
                ),
            },
          ]}
        />
      ) : (
        <Empty>Nothing is saved. Settings make an instance itself: host name, domain, time zone, users, keys.</Empty>
      )}
      {asked === "save" && <Save close={() => setAsked(null)} />}
      {asked?.startsWith("drop ") && (
        <Confirm
          title={`Remove ${asked.slice(5)}`}
          about="Instances that were launched with it keep what they have."
          verb="Remove it"
          loses
          act={() => drop(asked.slice(5))}
          close={() => setAsked(null)}
        />
      )}
    </>
  );
}

function Save({ close }: { close: () => void }) {
  const cache = useQueryClient();
  const [given, setGiven] = useState<Record<string, string>>({});
  const [secrets, setSecrets] = useState<SecretFile[]>([]);
  const value = (name: string) => given[name] ?? "";
  const set = (name: string) => (event: { target: { value: string } }) =>
    setGiven({ ...given, [name]: event.target.value });
  const act = async () => {
    const users = value("user")
      ? [{ name: value("user"), administrator: true, ssh_public_keys: value("key") ? [value("key").trim()] : [] }]
      : [];
    const body = {
      domain: value("domain") || null,
      time_zone: value("zone") || null,
      locale: value("locale") || null,
      users,
      secrets,
    } as Schema["FirstBoot"];
    await answer(
      http.PUT("/api/v1/first-boot/{name}", { params: { path: { name: value("name") }, header: fresh }, body }),
    );
    await cache.invalidateQueries();
  };
  return (
    <Confirm title="Save first-boot settings" verb="Save them" act={act} close={close}>
      <NameField label="Name" value={value("name")} onChange={set("name")} required autoFocus />
      <TextField label="Domain" value={value("domain")} onChange={set("domain")} placeholder="tide.example" />
      <TextField label="Time zone" value={value("zone")} onChange={set("zone")} placeholder="Etc/UTC" />
      <TextField label="Locale" value={value("locale")} onChange={set("locale")} placeholder="en_GB.UTF-8" />
      <TextField label="User" value={value("user")} onChange={set("user")} hint="An administrator." />
      <TextField label="SSH public key" value={value("key")} onChange={set("key")} />
      <SecretFiles files={secrets} set={setSecrets} />
    </Confirm>
  );
}
