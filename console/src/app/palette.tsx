import { useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useState } from "react";
import { useNavigate } from "react-router";
import { ask } from "~/api/queries";
import { to } from "~/parts/text";

const item = "flex cursor-pointer justify-between gap-4 px-4 py-1.5 data-[selected=true]:bg-depth-1";

/** One field for all: go to a page, a line, a machine, an instance by name, id, digest or address, or do something. */
export default function Palette({ close }: { close: () => void }) {
  const go = useNavigate();
  const [text, setText] = useState("");
  const lines = useQuery(ask.lines()).data?.items ?? [];
  const machines = useQuery(ask.machines()).data?.items ?? [];
  const asked = text.trim();
  const open = (address: string) => {
    close();
    void go(address);
  };
  return (
    <Command.Dialog
      open
      onOpenChange={(wanted) => !wanted && close()}
      label="Search or do"
      overlayClassName="fixed inset-0 z-20 bg-[rgb(8_20_28/0.45)]"
      contentClassName="fixed top-[12vh] left-1/2 z-30 w-[min(38rem,94vw)] -translate-x-1/2 overflow-hidden rounded-edge border border-rule bg-paper"
    >
      <Command.Input
        value={text}
        onValueChange={setText}
        placeholder="A line, a version, a machine, an instance, an id, an address, a package …"
        className="border-rule w-full border-b bg-transparent px-4 py-3 text-[16px] outline-none"
      />
      <Command.List className="max-h-[56vh] overflow-y-auto py-2">
        <Command.Empty className="text-ink-2 px-4 py-2">Nothing by that name.</Command.Empty>
        <Command.Group heading={<h3 className="text-label text-ink-3 px-4 pt-2 font-semibold">Lines</h3>}>
          {lines.map((line) => (
            <Command.Item
              key={line.name}
              value={`line ${line.name}`}
              className={item}
              onSelect={() => open(to.line(line.name))}
            >
              {line.name} <span className="text-ink-3">{line.newest ?? "no release"}</span>
            </Command.Item>
          ))}
        </Command.Group>
        <Command.Group heading={<h3 className="text-label text-ink-3 px-4 pt-2 font-semibold">Machines</h3>}>
          {machines
            .filter((m) => !m.instance)
            .map((machine) => (
              <Command.Item
                key={machine.id}
                value={`machine ${machine.name} ${machine.id} ${machine.address}`}
                className={item}
                onSelect={() => open(to.machine(machine.region, machine.id))}
              >
                {machine.name} <span className="text-ink-3">{machine.region}</span>
              </Command.Item>
            ))}
        </Command.Group>
        <Command.Group heading={<h3 className="text-label text-ink-3 px-4 pt-2 font-semibold">Do</h3>}>
          {(
            [
              ["Launch instances", "/launch"],
              ["Capture a machine", "/machines"],
              ["See every operation", "/operations"],
              ["See the regions and quotas", "/regions"],
              ["Find a package", "/packages"],
              ["See what is behind", "/instances?behind=true"],
              ["Invite somebody", "/people"],
              ["Shares in and out", "/people?show=shares"],
              ["Rules and allowances", "/people?show=rules"],
            ] as const
          ).map(([name, address]) => (
            <Command.Item key={name} value={`do ${name}`} className={item} onSelect={() => open(address)}>
              {name}
            </Command.Item>
          ))}
        </Command.Group>
        {asked && (
          <Command.Group forceMount>
            {asked.startsWith("op-") && (
              <Entry id={`o ${asked}`} text={`Operation ${asked}`} open={() => open(to.operation(asked))} />
            )}
            {asked.startsWith("in-") && (
              <Entry id={`i ${asked}`} text={`Instance ${asked}`} open={() => open(to.instance(asked))} />
            )}
            {asked.includes("@") && (
              <Entry id={`v ${asked}`} text={`Version ${asked}`} open={() => open(to.version(asked))} />
            )}
            <Entry
              id={`n ${asked}`}
              text={`Instances like “${asked}”`}
              open={() => open(to.instances({ find: asked }))}
            />
            <Entry
              id={`p ${asked}`}
              text={`What carries the package “${asked}”?`}
              open={() => open(`/packages?name=${encodeURIComponent(asked)}`)}
            />
            <Entry
              id={`l ${asked}`}
              text={`What happened to “${asked}”?`}
              open={() => open(`/ledger?subject=${encodeURIComponent(asked)}`)}
            />
          </Command.Group>
        )}
      </Command.List>
    </Command.Dialog>
  );
}

function Entry({ id, text, open }: { id: string; text: string; open: () => void }) {
  return (
    <Command.Item value={id} forceMount className={item} onSelect={open}>
      {text}
    </Command.Item>
  );
}
