import { useQuery } from "@tanstack/react-query";
import { ask } from "~/api/queries";
import { Loading, ProblemShown } from "~/parts/basics";
import { EventRows } from "./event-rows";

/** The own history of one thing. */
export function Happened({ subject }: { subject: string }) {
  const { data, error } = useQuery(ask.events({ subject }));
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  return <EventRows events={data.items} empty={`The ledger has nothing about ${subject}.`} />;
}
