import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, onceKey } from "~/api/client";
import { Confirm } from "~/parts/dialog";
import { RegionChoice } from "~/parts/region-choice";
import { TextArea, TextField } from "~/parts/form";

/** Offers a line or a version to another account. */
export function ShareDialog({ subject, close }: { subject: string; close: () => void }) {
  const cache = useQueryClient();
  const [consumer, setConsumer] = useState("");
  const [until, setUntil] = useState("");
  const [note, setNote] = useState("");
  const [only, setOnly] = useState<string[]>([]);
  const act = async () => {
    const body = {
      subject,
      consumer,
      until: until || null,
      note,
      regions: only.length ? only : null,
      confirm_public: false,
    };
    await answer(http.POST("/api/v1/shares", { body, params: { header: onceKey() } }));
    await cache.invalidateQueries();
  };
  return (
    <Confirm
      title={`Share ${subject}`}
      about="The other account decides whether it accepts. Until then nothing is granted."
      verb="Offer it"
      act={act}
      close={close}
    >
      <TextField
        label="Account"
        value={consumer}
        onChange={(e) => setConsumer(e.target.value)}
        required
        autoFocus
        placeholder="harbour-watch"
      />
      <RegionChoice chosen={only} choose={setOnly} />
      <TextField
        label="Until"
        type="date"
        value={until}
        onChange={(e) => setUntil(e.target.value)}
        hint="Left out: until you end it."
      />
      <TextArea label="Note" value={note} onChange={(e) => setNote(e.target.value)} />
    </Confirm>
  );
}
