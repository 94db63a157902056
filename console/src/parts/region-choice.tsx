import { useQuery } from "@tanstack/react-query";
import { ask } from "~/api/queries";
import { Check } from "./form";

/** Some of the regions; none chosen means all of them. */
export function RegionChoice({ chosen, choose }: { chosen: string[]; choose: (regions: string[]) => void }) {
  const regions = useQuery(ask.regions()).data ?? [];
  const toggle = (name: string) =>
    choose(chosen.includes(name) ? chosen.filter((one) => one !== name) : [...chosen, name]);
  return (
    <fieldset className="mb-3">
      <legend className="text-small font-medium">Only in these regions (none chosen: all)</legend>
      {regions.map((region) => (
        <Check
          key={region.name}
          label={region.name}
          checked={chosen.includes(region.name)}
          onChange={() => toggle(region.name)}
        />
      ))}
    </fieldset>
  );
}
