import { useState } from "react";
import { answer, http } from "~/api/client";
import { Confirm } from "~/parts/dialog";
import { TextField } from "~/parts/form";

/** Another password for the person who is signed in. */
export function PasswordDialog({ close }: { close: () => void }) {
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  return (
    <Confirm
      title="Change your password"
      about="You are signed out in every other browser. Your tokens stay good."
      verb="Change it"
      act={() => answer(http.PUT("/api/v1/session/password", { body: { old, new: next } }))}
      close={close}
    >
      <TextField
        label="Old password"
        type="password"
        autoComplete="current-password"
        value={old}
        onChange={(event) => setOld(event.target.value)}
        required
        autoFocus
      />
      <TextField
        label="New password"
        type="password"
        autoComplete="new-password"
        value={next}
        onChange={(event) => setNext(event.target.value)}
        minLength={12}
        required
        hint="12 characters or more. Take a few words."
      />
    </Confirm>
  );
}
