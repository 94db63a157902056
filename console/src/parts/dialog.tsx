import { Dialog as Radix } from "radix-ui";
import { useState, type FormEvent, type ReactNode } from "react";
import { Button, ProblemShown, Whole } from "./basics";
import { TextField } from "./form";

/** A question over the page; Escape and a click beside it close it. */
export function Dialog({
  open,
  close,
  title,
  about,
  children,
}: {
  open: boolean;
  close: () => void;
  title: string;
  about?: ReactNode;
  children: ReactNode;
}) {
  return (
    <Radix.Root open={open} onOpenChange={(wanted) => !wanted && close()}>
      <Radix.Portal>
        <Radix.Overlay className="fixed inset-0 z-20 bg-[rgb(8_20_28/0.45)]" />
        <Radix.Content
          className="rounded-edge border-rule bg-paper fixed top-1/2 left-1/2 z-30 max-h-[88vh] w-[min(34rem,94vw)] -translate-x-1/2 -translate-y-1/2 overflow-y-auto border p-6"
          aria-describedby={undefined}
        >
          <Radix.Title className="mb-2 text-[18px] leading-6 font-semibold">{title}</Radix.Title>
          {about && <div className="text-body text-ink-2 mb-3">{about}</div>}
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

type Ask = {
  title: string;
  about?: ReactNode;
  /** The name that must be typed where bytes or machines are lost. */
  typed?: string;
  verb: string;
  act: () => Promise<unknown>;
  close: () => void;
  children?: ReactNode;
  loses?: boolean;
  /** Whether it cannot be done: the reason is among the children. */
  unable?: boolean;
};

/** Asks before something is done, shows what it will do, and what the service says if it fails. */
export function Confirm({ title, about, typed, verb, act, close, children, loses, unable }: Ask) {
  const [name, setName] = useState("");
  const [problem, setProblem] = useState<unknown>(null);
  const [busy, setBusy] = useState(false);
  const go = async (event: FormEvent) => {
    event.preventDefault();
    setBusy(true);
    setProblem(null);
    try {
      await act();
      close();
    } catch (failed) {
      setProblem(failed);
    } finally {
      setBusy(false);
    }
  };
  return (
    <Dialog open close={close} title={title} about={about}>
      <form onSubmit={(event) => void go(event)}>
        {children}
        {typed && (
          <TextField
            label={`Type ${typed} to confirm`}
            value={name}
            onChange={(e) => setName(e.target.value)}
            autoComplete="off"
            autoFocus
          />
        )}
        {problem !== null && <ProblemShown problem={problem} />}
        <div className="mt-4 flex gap-3">
          <Button
            type="submit"
            kind={loses ? "heed" : "main"}
            disabled={busy || unable || (typed !== undefined && name !== typed)}
          >
            {busy ? "Working …" : verb}
          </Button>
          <Button onClick={close}>Close</Button>
        </div>
      </form>
    </Dialog>
  );
}

/** What a verb would do: what forbids it, what to know, what happens. */
export function PlanShown({ plan }: { plan: { blockers: string[]; warnings: string[]; effects?: string[] } }) {
  return (
    <div className="text-body my-2">
      {plan.blockers.map((text) => (
        <p key={text} className="border-heed text-heed mb-1 border-l-2 pl-2">
          {text}
        </p>
      ))}
      {plan.warnings.map((text) => (
        <p key={text} className="border-rule mb-1 border-l-2 pl-2">
          {text}
        </p>
      ))}
      {plan.effects?.map((text) => (
        <p key={text} className="mb-1">
          {text}
        </p>
      ))}
    </div>
  );
}

/** What nobody is shown a second time: a key, a token. */
export function ShownOnce({ title, about, text, close }: Record<"title" | "about" | "text", string> & Close) {
  return (
    <Dialog open close={close} title={title} about={about}>
      <Whole text={text} />
      <div className="mt-4">
        <Button onClick={close}>I have it</Button>
      </div>
    </Dialog>
  );
}

type Close = { close: () => void };
