import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, fresh, http, since, type Schema } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Button, Empty, Heading, Loading, ProblemShown } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { Choice, NameField, TextField } from "~/parts/form";
import { Bar } from "~/parts/progress";
import { Table } from "~/parts/table";
import { ExceptionDialog, RuleDialog } from "./rule-dialogs";
import { TryOut } from "./try-out";

type SetRule = Schema["SetRule"];

/** What a rule demands, in words. */
export function demands(rule: SetRule["rule"]): string {
  const out = [
    rule.owners && `lines of ${rule.owners.join(" or ")}`,
    rule.lines && `only ${rule.lines.join(" or ")}`,
    rule.released_only && "released versions",
    rule.no_older_than_days && `released within ${rule.no_older_than_days} days`,
    rule.signed && "a signature that holds",
    rule.residue_clean && "no open finding",
    rule.subnets && `in subnet ${rule.subnets.join(" or ")}`,
    rule.firewalls && `no firewall set but ${rule.firewalls.join(", ")}`,
    rule.no_public_address && "no public address",
    rule.checks_passed && `checks passed: ${rule.checks_passed.join(", ")}`,
    rule.regions && `in ${rule.regions.join(" or ")}`,
    rule.tags && `tags ${rule.tags.join(", ")}`,
  ].filter(Boolean);
  return out.join("; ");
}

export function Rules() {
  const { data, error } = useQuery(ask.rules());
  const { may } = useSession();
  const [asked, setAsked] = useState<"set" | ["drop" | "except", SetRule] | null>(null);
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  return (
    <>
      <Heading
        aside={
          may("rule") && (
            <Button kind="quiet" className="text-small" onClick={() => setAsked("set")}>
              Set a rule
            </Button>
          )
        }
      >
        Launch rules
      </Heading>
      {data.length ? (
        <Table
          label="Launch rules"
          rows={data}
          id={(one) => `${one.holds_for} ${one.rule.name}`}
          columns={[
            { head: "rule", cell: (one) => <span className="font-semibold">{one.rule.name}</span> },
            {
              head: "judges",
              cell: (one) => (one.rule.applies_to === "*" ? "every launch" : `launches of ${one.rule.applies_to}`),
            },
            { head: "demands", cell: (one) => demands(one.rule) },
            { head: "else it", cell: (one) => (one.rule.effect === "warn" ? "warns" : "refuses") },
            { head: "exceptions", cell: (one) => (one.rule.exceptions ?? []).map((e) => e.name).join(", ") },
            { head: "for", cell: (one) => one.holds_for ?? "all accounts" },
            {
              head: "",
              cell: (one) =>
                may("rule") &&
                one.holds_for && (
                  <span className="flex gap-3">
                    <Button
                      kind="quiet"
                      onClick={() => setAsked(["except", one])}
                      aria-label={`Except something from ${one.rule.name}`}
                    >
                      Except
                    </Button>
                    <Button kind="quiet" onClick={() => setAsked(["drop", one])} aria-label={`Remove ${one.rule.name}`}>
                      Remove
                    </Button>
                  </span>
                ),
            },
          ]}
        />
      ) : (
        <Empty>No rule is set: every launch that states, shares and allowances permit is admitted.</Empty>
      )}
      <TryOut />
      <Allowances />
      {asked === "set" && <RuleDialog close={() => setAsked(null)} />}
      {Array.isArray(asked) && asked[0] === "except" && <ExceptionDialog set={asked[1]} close={() => setAsked(null)} />}
      {Array.isArray(asked) && asked[0] === "drop" && <Drop set={asked[1]} close={() => setAsked(null)} />}
    </>
  );
}

function Drop({ set, close }: { set: SetRule; close: () => void }) {
  const { name } = set.rule;
  const cache = useQueryClient();
  const act = async () => {
    await answer(http.DELETE("/api/v1/rules/{name}", { params: { path: { name }, header: since(set.revision) } }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Remove the rule ${name}`}
      about="Launches are no longer judged by it."
      verb="Remove it"
      loses
      act={act}
      close={close}
    />
  );
}

function Allowances() {
  const { data } = useQuery(ask.allowances());
  const { may } = useSession();
  const [asked, setAsked] = useState(false);
  return (
    <>
      <Heading
        aside={
          may("rule") && (
            <Button kind="quiet" className="text-small" onClick={() => setAsked(true)}>
              Set an allowance
            </Button>
          )
        }
      >
        Allowances
      </Heading>
      {data?.length ? (
        <Table
          label="Allowances"
          rows={data}
          id={(one) => `${one.account} ${one.name}`}
          columns={[
            { head: "allowance", cell: (one) => <span className="font-semibold">{one.name}</span> },
            { head: "counts", cell: (one) => `${one.subject}${one.consumer ? ` of ${one.consumer}` : ""}` },
            {
              head: "used",
              wide: true,
              cell: (one) => (
                <>
                  <span className={one.used >= one.most * 0.9 ? "text-heed" : ""}>
                    {one.used} of {one.most}
                  </span>
                  <Bar percent={Math.min(100, (100 * one.used) / Math.max(1, one.most))} label={`Use of ${one.name}`} />
                </>
              ),
            },
            { head: "set by", cell: (one) => one.account },
          ]}
        />
      ) : (
        <Empty>No allowance is set.</Empty>
      )}
      {asked && <SetAllowance close={() => setAsked(false)} />}
    </>
  );
}

function SetAllowance({ close }: { close: () => void }) {
  const cache = useQueryClient();
  const lines = useQuery(ask.lines()).data?.items ?? [];
  const [name, setName] = useState("");
  const [line, setLine] = useState("");
  const [most, setMost] = useState(50);
  const act = async () => {
    const body = {
      kind: line ? ("line" as const) : ("account" as const),
      line: line || null,
      most,
      version: null,
      lines: null,
      consumer: null,
    };
    await answer(http.PUT("/api/v1/allowances/{name}", { params: { path: { name }, header: fresh }, body }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title="Set an allowance"
      about="What runs beyond it keeps running; new launches are refused."
      verb="Set it"
      act={act}
      close={close}
    >
      <NameField label="Name" value={name} onChange={(e) => setName(e.target.value)} required autoFocus />
      <Choice
        label="Counts"
        value={line}
        onChange={(e) => setLine(e.target.value)}
        options={[
          ["", "all that this account runs"],
          ...lines.map((one): [string, string] => [one.name, `what runs of ${one.name}`]),
        ]}
      />
      <TextField label="At most" type="number" min={0} value={most} onChange={(e) => setMost(Number(e.target.value))} />
    </Confirm>
  );
}
