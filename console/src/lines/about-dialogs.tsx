import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, http } from "~/api/client";
import { ask } from "~/api/queries";
import { Confirm } from "~/parts/dialog";
import { TextArea } from "~/parts/form";

type Given = { name: string; close: () => void };

/** What a line is for. */
export function DescribeDialog({ name, close }: Given) {
  const cache = useQueryClient();
  const now = useQuery(ask.line(name)).data?.line.about ?? "";
  const [about, setAbout] = useState<string | null>(null);
  const act = async () => {
    const params = { path: { name } };
    await answer(http.PUT("/api/v1/lines/{name}/about", { params, body: { about: about ?? now } }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm title={`What ${name} is for`} verb="Save it" act={act} close={close}>
      <TextArea label="For" value={about ?? now} onChange={(e) => setAbout(e.target.value)} rows={3} maxLength={2000} />
    </Confirm>
  );
}

/** A line that was made by mistake. */
export function DropDialog({ name, close }: Given) {
  const cache = useQueryClient();
  const go = useNavigate();
  const act = async () => {
    await answer(http.DELETE("/api/v1/lines/{name}", { params: { path: { name } } }));
    await go("/lines");
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Remove ${name}`}
      about="A line without a version can be removed. Its name is free again."
      verb="Remove it"
      loses
      act={act}
      close={close}
    />
  );
}
