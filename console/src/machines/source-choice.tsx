import { useState } from "react";
import type { Schema } from "~/api/client";
import { Check, Choice, TextField } from "~/parts/form";

type Afterwards = Schema["CaptureRequest"]["afterwards"];

/** When a capture begins, whether its source is shut down for it, and what becomes of the source. */
export function useSource(mayShutDown: boolean) {
  const [at, setAt] = useState("");
  const [powerOff, setPowerOff] = useState(true);
  const [afterwards, setAfterwards] = useState<Afterwards>("kept");
  return {
    at,
    setAt,
    mayShutDown,
    shutsDown: mayShutDown && powerOff,
    powerOff,
    setPowerOff,
    afterwards,
    setAfterwards,
  };
}

export function SourceChoice({ source, name }: { source: ReturnType<typeof useSource>; name: string }) {
  return (
    <>
      {source.mayShutDown && (
        <Check
          label="Its agent shuts it down first; it is started again once its disk is copied"
          checked={source.powerOff}
          onChange={(e) => source.setPowerOff(e.target.checked)}
        />
      )}
      <TextField
        label="Begin at"
        type="datetime-local"
        value={source.at}
        onChange={(e) => source.setAt(e.target.value)}
        hint="Left out: now. Everything is checked again before it begins."
      />
      <Choice
        label={`Afterwards ${name} is`}
        value={source.afterwards}
        onChange={(e) => source.setAfterwards(e.target.value as Afterwards)}
        options={[
          ["kept", "kept as it is"],
          ["stopped", "shut down"],
          ["deleted", "deleted, with its disks"],
        ]}
      />
    </>
  );
}
