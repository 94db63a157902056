import { useQuery } from "@tanstack/react-query";
import { useDeferredValue, useState, type FormEvent } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { answer, http, onceKey, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Button, Heading, ProblemShown } from "~/parts/basics";
import { Check, Choice, TextArea, TextField } from "~/parts/form";
import { Page } from "~/parts/page";
import { Says } from "~/parts/sentence";
import { bytes, to } from "~/parts/text";
import { PlanAside } from "./plan-aside";
import { SecretFiles, type SecretFile } from "./secret-files";

type Request = Schema["LaunchRequest"];

const sample = "quay-{n:02}";

/** Launch by line or version; what the rules, allowances and the site say comes before the click. */
export function Component() {
  const [search] = useSearchParams();
  const go = useNavigate();
  const { may, who, account } = useSession();
  const lines = useQuery(ask.lines()).data?.items ?? [];
  const shared = useQuery(ask.sharedVersions()).data?.items ?? [];
  const regions = useQuery(ask.regions()).data ?? [];
  const saved = useQuery(ask.firstBoot()).data ?? [];
  const [given, setGiven] = useState<Record<string, string>>(() => ({
    count: "1",
    name: sample,
    ...Object.fromEntries(search),
  }));
  const [problem, setProblem] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const [keep, setKeep] = useState(false);
  const [firewalls, setFirewalls] = useState<string[]>([]);
  const [reached, setReached] = useState(false);
  const [secrets, setSecrets] = useState<SecretFile[]>([]);
  const value = (name: string) => given[name] ?? "";
  const set = (name: string) => (event: { target: { value: string } }) =>
    setGiven({ ...given, [name]: event.target.value });
  const offered = [
    ...lines.filter((line) => line.newest).map((line) => line.name),
    ...shared.map((one) => one.reference),
  ];
  const reference = value("of") || (offered[0] ?? "");
  const version = useQuery({ ...ask.version(reference), enabled: reference !== "", retry: false });
  const kept = version.data?.version.regions ?? [];
  const region = value("region") || (regions.find((r) => r.reachable && kept.includes(r.name))?.name ?? kept[0] ?? "");
  const networks = useQuery({ ...ask.networks(region), enabled: region !== "", retry: false }).data;
  const body: Request = {
    reference,
    region,
    zone: value("zone") || null,
    machine_size: value("size") || null,
    count: Math.max(1, Number(value("count")) || 1),
    name: value("name"),
    first_boot: firstBoot(value, secrets),
    attach: {
      subnet: value("subnet") || null,
      address: value("address") || null,
      firewalls,
      public_address: reached,
    },
    room: {
      boot_bytes: bytes(value("boot")),
      extra_disks: sizes(value("extra")).map((text) => bytes(text) ?? 0),
      keep_data_disks: keep,
    },
    tags: tags(value("tags")),
    wait_seconds: 300,
  };
  const looked = useDeferredValue(body);
  const wrong = unclear(`${value("boot")},${value("extra")}`) !== undefined;
  const plan = useQuery({
    queryKey: ["launch-plan", looked],
    queryFn: () => answer(http.POST("/api/v1/launch-plans", { body: looked })),
    enabled: looked.reference !== "" && looked.region !== "" && !wrong,
  });
  const launch = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    setProblem(null);
    try {
      const operation = await answer(http.POST("/api/v1/launches", { body, params: { header: onceKey() } }));
      void go(to.operation(operation.id));
    } catch (failed) {
      setProblem(failed);
      setBusy(false);
    }
  };
  const place = regions.find((r) => r.name === region);
  const forbidden = !may("operate");
  return (
    <Page
      aside={<PlanAside plan={plan.data} problem={plan.error} reference={reference} region={region} unclear={wrong} />}
    >
      <Says under="Each instance has an identity of its own on its first boot.">{`Launch ${body.count === 1 ? "an instance" : `${body.count} instances`}${reference ? ` from ${reference}` : ""}${region ? ` in ${region}` : ""}.`}</Says>
      <form onSubmit={(event) => void launch(event)} className="mt-5 max-w-2xl">
        <div className="grid gap-x-5 sm:grid-cols-2">
          <TextField
            label="Line or version"
            list="offered"
            value={value("of") || reference}
            onChange={set("of")}
            required
            hint="A bare line means its newest released version."
          />
          <datalist id="offered">
            {offered.map((one) => (
              <option key={one} value={one} />
            ))}
          </datalist>
          <Choice
            label="Region"
            value={region}
            onChange={set("region")}
            options={regions.map((r): [string, string] => [
              r.name,
              !r.reachable
                ? `${r.name}, which is out`
                : kept.includes(r.name)
                  ? r.name
                  : `${r.name}, where it is not kept`,
            ])}
          />
          <Choice
            label="Zone"
            value={value("zone")}
            onChange={set("zone")}
            options={[["", "spread over the zones"], ...(place?.zones ?? [])]}
          />
          <Choice
            label="Machine size"
            value={value("size")}
            onChange={set("size")}
            options={[["", "as its source's"], ...(place?.machine_sizes ?? [])]}
          />
          <TextField
            label="How many"
            type="number"
            min={1}
            max={500}
            value={value("count")}
            onChange={set("count")}
            required
          />
          <TextField label="Names" value={value("name")} onChange={set("name")} hint="{n} or {n:02} is the number." />
        </div>
        {networks && (
          <>
            <Heading>Network</Heading>
            <div className="grid gap-x-5 sm:grid-cols-2">
              <Choice
                label="Subnet"
                value={value("subnet")}
                onChange={set("subnet")}
                options={[
                  ["", "the site's default"],
                  ...networks.subnets.map((one): [string, string] => [
                    one.name,
                    `${one.name}, ${one.cidr}, ${one.free} free`,
                  ]),
                ]}
              />
              <TextField
                label="Fixed address"
                value={value("address")}
                onChange={set("address")}
                placeholder="any of the subnet"
                hint="For one instance."
              />
            </div>
            <fieldset className="mb-3">
              <legend className="text-small mb-0.5 font-medium">Firewall sets</legend>
              {networks.firewalls.map((one) => (
                <Check
                  key={one.name}
                  label={`${one.name}: opens ${one.opens.join("; ") || "nothing"}`}
                  checked={firewalls.includes(one.name)}
                  onChange={(e) =>
                    setFirewalls(
                      e.target.checked ? [...firewalls, one.name] : firewalls.filter((name) => name !== one.name),
                    )
                  }
                />
              ))}
              <p className="text-label text-ink-3">Without one, nobody reaches the instances.</p>
            </fieldset>
            <Check
              label="Each gets a public address"
              checked={reached}
              onChange={(e) => setReached(e.target.checked)}
            />
          </>
        )}
        <Heading>Disks</Heading>
        <div className="grid gap-x-5 sm:grid-cols-2">
          <TextField
            label="Boot disk"
            value={value("boot")}
            onChange={set("boot")}
            placeholder="as the version's"
            hint="Larger, such as 20 GiB: its file system grows at first boot."
            error={unclear(value("boot"))}
          />
          <TextField
            label="Empty disks besides"
            value={value("extra")}
            onChange={set("extra")}
            placeholder="none"
            hint="Sizes with commas between, such as 100 GiB, 20 GiB."
            error={unclear(value("extra"))}
          />
        </div>
        {((version.data?.version.disks.length ?? 0) > 1 || value("extra")) && (
          <Check
            label="All disks but the boot disk stay at the site when an instance is terminated"
            checked={keep}
            onChange={(e) => setKeep(e.target.checked)}
          />
        )}
        <Heading>First boot</Heading>
        <div className="grid gap-x-5 sm:grid-cols-2">
          <Choice
            label="Saved settings"
            value={value("saved")}
            onChange={set("saved")}
            options={[["", "none: as below"], ...saved.map((one): [string, string] => [one.name, one.name])]}
          />
          <TextField
            label="Tags"
            value={value("tags")}
            onChange={set("tags")}
            placeholder="owner=tide-office, purpose=gauge"
          />
          {!value("saved") && (
            <>
              <TextField label="Domain" value={value("domain")} onChange={set("domain")} placeholder="tide.example" />
              <TextField
                label="Time zone"
                value={value("zone-of-time")}
                onChange={set("zone-of-time")}
                placeholder="Etc/UTC"
              />
              <TextField
                label="User"
                value={value("user")}
                onChange={set("user")}
                placeholder="orla"
                hint="An administrator on each instance."
              />
              <TextArea label="SSH public key" value={value("key")} onChange={set("key")} rows={2} />
            </>
          )}
        </div>
        {!value("saved") && <SecretFiles files={secrets} set={setSecrets} />}
        {problem !== null && <ProblemShown problem={problem} />}
        {forbidden && (
          <p className="text-small text-heed mb-2">
            {who.user} may look at {account}, not launch. Ask a steward of {account}.
          </p>
        )}
        <Button
          type="submit"
          kind="main"
          disabled={busy || forbidden || wrong || !plan.data || plan.data.blockers.length > 0}
        >
          {busy ? "Launching …" : `Launch ${body.count === 1 ? "it" : `${body.count} instances`}`}
        </Button>
      </form>
    </Page>
  );
}

const sizes = (text: string) => text.split(",").filter((part) => part.trim() !== "");

/** What is wrong with sizes that somebody wrote; undefined where nothing is. */
const unclear = (text: string) =>
  sizes(text).some((part) => bytes(part) === null) ? "That is no size: write such as 20 GiB." : undefined;

function firstBoot(value: (name: string) => string, secrets: SecretFile[]): Request["first_boot"] {
  if (value("saved")) return value("saved");
  const users = value("user")
    ? [{ name: value("user"), administrator: true, ssh_public_keys: value("key") ? [value("key").trim()] : [] }]
    : [];
  const made = { domain: value("domain") || null, time_zone: value("zone-of-time") || null, users, secrets };
  const any = made.domain || made.time_zone || users.length || secrets.length;
  return (any ? made : null) as Request["first_boot"];
}

function tags(text: string): Record<string, string> {
  const pairs = text
    .split(",")
    .map((part) => part.trim())
    .filter((part) => part.includes("="));
  return Object.fromEntries(pairs.map((part) => [part.slice(0, part.indexOf("=")), part.slice(part.indexOf("=") + 1)]));
}
