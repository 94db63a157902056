import { useSearchParams } from "react-router";
import { useSession } from "~/app/session";
import { Says } from "~/parts/sentence";
import { PageParts } from "~/parts/tabs";
import { plural } from "~/parts/text";
import { FirstBoots } from "./first-boots";
import { Keys } from "./keys";
import { Members } from "./members";
import { Messages } from "./messages";
import { Rules } from "./rules";
import { Secrets } from "./secrets";
import { Shares } from "./shares";
import { Tokens } from "./tokens";

const parts = [
  ["members", "Members", Members],
  ["tokens", "Robots and tokens", Tokens],
  ["shares", "Shares in and out", Shares],
  ["rules", "Rules and allowances", Rules],
  ["first-boot", "First-boot settings", FirstBoots],
  ["secrets", "Secrets", Secrets],
  ["messages", "Messages", Messages],
  ["keys", "Keys", Keys],
] as const;

/** Who may do what, and what other accounts may have. */
export function Component() {
  const { who, account } = useSession();
  const [search, setSearch] = useSearchParams();
  const role = who.accounts.find((one) => one.account === account)?.role;
  const show = parts.find(([name]) => name === search.get("show"))?.[0] ?? "members";
  const Part = parts.find(([name]) => name === show)![2];
  return (
    <>
      <Says
        under={who.accounts.length > 1 ? `You are a member of ${plural(who.accounts.length, "account")}.` : undefined}
      >{`You are ${role} of ${account}.`}</Says>
      <PageParts
        parts={parts}
        open={show}
        turn={(part) => setSearch(part === "members" ? {} : { show: part }, { replace: true })}
      >
        <Part />
      </PageParts>
    </>
  );
}
