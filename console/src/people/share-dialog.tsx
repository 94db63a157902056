import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, http, onceKey } from "~/api/client";
import { ask } from "~/api/queries";
import { Confirm } from "~/parts/dialog";
import { Check, TextArea, TextField } from "~/parts/form";

/** Offers a line or a version to another account. */
export function ShareDialog({ subject, close }: { subject: string; close: () => void }) {
  const cache = useQueryClient();
  const regions = useQuery(ask.regions()).data ?? [];
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
  const toggle = (name: string) => setOnly(only.includes(name) ? only.filter((one) => one !== name) : [...only, name]);
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
      <fieldset className="mb-3">
        <legend className="text-small font-medium">Only in these regions (none chosen: all)</legend>
        {regions.map((region) => (
          <Check
            key={region.name}
            label={region.name}
            checked={only.includes(region.name)}
            onChange={() => toggle(region.name)}
          />
        ))}
      </fieldset>
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
