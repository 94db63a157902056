import type { Schema } from "~/api/client";
import { Check } from "~/parts/form";
import { iec } from "~/parts/text";

/** Which of its data disks are captured with the boot disk; nothing for a machine that has none. */
export function DisksChoice({
  machine,
  disks,
  take,
}: {
  machine: Schema["Machine"];
  disks: string[];
  take: (disks: string[]) => void;
}) {
  const data = machine.disks.filter((disk) => !disk.boot);
  if (data.length === 0) return null;
  const change = (name: string, on: boolean) => take(on ? [...disks, name] : disks.filter((one) => one !== name));
  return (
    <fieldset className="mb-3">
      <legend className="text-small mb-0.5 font-medium">With its data disks</legend>
      {data.map((disk) => (
        <Check
          key={disk.id}
          label={`${disk.name}, ${iec(disk.size)}`}
          checked={disks.includes(disk.name)}
          onChange={(e) => change(disk.name, e.target.checked)}
        />
      ))}
      <p className="text-label text-ink-3">
        All are taken at one moment, and each instance gets a copy. Data that changes is for a backup, not for a
        version.
      </p>
    </fieldset>
  );
}
