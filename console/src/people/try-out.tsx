import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http } from "~/api/client";
import { ask } from "~/api/queries";
import { Heading, ProblemShown } from "~/parts/basics";
import { Choice, TextField } from "~/parts/form";

/** Would this launch be admitted?  Every rule's verdict, before anybody tries. */
export function TryOut() {
  const regions = useQuery(ask.regions()).data ?? [];
  const lines = (useQuery(ask.lines()).data?.items ?? []).filter((line) => line.newest);
  const [of, setOf] = useState("");
  const [where, setWhere] = useState("");
  const reference = of || (lines[0]?.name ?? "");
  const region = where || (regions[0]?.name ?? "");
  const { data, error } = useQuery({
    queryKey: ["explanation", reference, region],
    queryFn: () => answer(http.GET("/api/v1/rules/explanation", { params: { query: { reference, region } } })),
    enabled: reference !== "" && region !== "",
  });
  return (
    <>
      <Heading>Would this launch be admitted?</Heading>
      <div className="flex flex-wrap gap-x-4">
        <div className="w-64">
          <TextField
            label="Line or version"
            value={of}
            onChange={(e) => setOf(e.target.value)}
            placeholder={reference}
          />
        </div>
        <div className="w-48">
          <Choice
            label="Region"
            value={region}
            onChange={(e) => setWhere(e.target.value)}
            options={regions.map((one) => one.name)}
          />
        </div>
      </div>
      {error && <ProblemShown problem={error} />}
      {data && (
        <div aria-live="polite">
          <p className={data.admitted ? "text-fair font-semibold" : "text-heed font-semibold"}>
            {data.admitted
              ? `Yes: ${data.reference} in ${data.region} is admitted.`
              : `No: ${data.reference} in ${data.region} is refused.`}
          </p>
          <ul className="text-small">
            {data.blockers.map((text) => (
              <li key={text}>{text}</li>
            ))}
            {data.verdicts.map((verdict) => (
              <li key={`${verdict.rule} ${verdict.holds_for}`}>
                <span className="font-semibold">{verdict.rule}</span>: {verdict.outcome}. {verdict.reasons.join(" ")}{" "}
                {verdict.need.join(" ")}
              </li>
            ))}
          </ul>
        </div>
      )}
    </>
  );
}
