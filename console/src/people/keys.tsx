import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http } from "~/api/client";
import { ask } from "~/api/queries";
import { useSession } from "~/app/session";
import { Button, Loading, Moment, ProblemShown, Short } from "~/parts/basics";
import { Confirm } from "~/parts/dialog";
import { Table } from "~/parts/table";

/** The keys that sign the records of versions. */
export function Keys() {
  const { account, may } = useSession();
  const { data, error } = useQuery(ask.keys(account));
  const cache = useQueryClient();
  const [asked, setAsked] = useState("");
  if (error) return <ProblemShown problem={error} />;
  if (!data) return <Loading />;
  const act = async () => {
    if (asked === "rotate") await answer(http.POST("/api/v1/keys/rotation"));
    else await answer(http.POST("/api/v1/keys/{key}/distrust", { params: { path: { key: asked } } }));
    await cache.invalidateQueries();
  };
  return (
    <>
      {may("manage") && <Button onClick={() => setAsked("rotate")}>Take a new key</Button>}
      <Table
        label="Keys"
        rows={data}
        id={(key) => key.id}
        columns={[
          { head: "key", cell: (key) => <Short text={key.id} keep={20} /> },
          { head: "state", cell: (key) => key.state },
          { head: "public half", cell: (key) => <Short text={key.public} keep={20} /> },
          { head: "since", cell: (key) => <Moment at={key.created_at} exact /> },
          {
            head: "",
            cell: (key) =>
              may("manage") &&
              key.state !== "distrusted" && (
                <Button kind="quiet" onClick={() => setAsked(key.id)} aria-label={`Distrust ${key.id}`}>
                  Distrust
                </Button>
              ),
          },
        ]}
      />
      {asked && (
        <Confirm
          title={asked === "rotate" ? "Take a new key" : "Distrust this key"}
          about={
            asked === "rotate"
              ? "New versions are signed with it. What the old key signed still counts."
              : "Nothing that it signed counts any more; rules that demand a signature refuse those versions."
          }
          verb={asked === "rotate" ? "Take it" : "Distrust it"}
          loses={asked !== "rotate"}
          act={act}
          close={() => setAsked("")}
        />
      )}
    </>
  );
}
