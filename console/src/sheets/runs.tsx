import { type FormEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, http } from "~/api/client";
import { Empty, Heading, Loading, ProblemShown } from "~/parts/basics";
import { TextField } from "~/parts/form";
import { More, usePages } from "~/parts/paged";
import { ChosenTable } from "~/parts/table";
import { runColumns } from "./run-columns";

/** Every run, or those of which a step printed a text. */
export function Runs() {
  const [search, setSearch] = useSearchParams();
  const printed = search.get("printed") ?? "";
  const [text, setText] = useState(printed);
  const asked = { printed: printed || undefined };
  const runs = usePages(["builds", asked], (cursor) =>
    answer(http.GET("/api/v1/builds", { params: { query: { ...asked, limit: 50, cursor } } })),
  );
  const look = (event: FormEvent) => {
    event.preventDefault();
    const wanted = text.trim();
    setSearch(wanted ? { printed: wanted } : {}, { replace: true });
  };
  if (!printed && !runs.pending && runs.rows.length === 0 && !runs.error) return null;
  return (
    <>
      <Heading>Runs</Heading>
      <form onSubmit={look} className="mt-2 w-80">
        <TextField
          label="Whose steps printed"
          value={text}
          onChange={(e) => setText(e.target.value)}
          minLength={2}
          placeholder="tide-logger"
          hint="What a step printed, changed or failed with; Enter searches."
        />
      </form>
      {runs.error && <ProblemShown problem={runs.error} />}
      {runs.pending ? (
        <Loading />
      ) : runs.rows.length > 0 ? (
        <ChosenTable
          name="builds"
          label="Runs"
          rows={runs.rows}
          id={(run) => run.operation}
          columns={runColumns("sheet")}
        />
      ) : (
        <Empty>No step of a run printed that.</Empty>
      )}
      <More pages={runs} title="Earlier runs" />
    </>
  );
}
