import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Schema } from "./client";
import type { Told } from "./live-worker";

const GATHERED_FOR = 700;

/** Renews what is on the page when the service says that something changed; false while it does not answer. */
export function useLive(account: string): boolean {
  const cache = useQueryClient();
  const [there, setThere] = useState(true);
  useEffect(() => {
    if (!account || typeof SharedWorker === "undefined") return;
    const worker = new SharedWorker(new URL("./live-worker.ts", import.meta.url), {
      type: "module",
      name: "bathotype",
    });
    const renew = gathered(cache);
    let lost: ReturnType<typeof setTimeout> | undefined;
    worker.port.onmessage = (message: MessageEvent<Told>) => {
      const { name, data } = message.data;
      clearTimeout(lost);
      if (name === "lost") {
        lost = setTimeout(() => setThere(false), 800);
        return;
      }
      setThere((before) => {
        if (!before) renew("all");
        return true;
      });
      if (name === "operation") showOperation(cache, JSON.parse(data) as Schema["Operation"], renew);
      else if (name === "event" || name === "everything" || name === "ended") renew("all");
      else if (name === "changed") renew((JSON.parse(data) as { what: string }).what);
    };
    worker.port.start();
    worker.port.postMessage({ follow: account });
    const bye = () => worker.port.postMessage({ bye: true });
    addEventListener("pagehide", bye);
    return () => {
      removeEventListener("pagehide", bye);
      clearTimeout(lost);
      bye();
      worker.port.close();
    };
  }, [account, cache]);
  return there;
}

function showOperation(cache: QueryClient, operation: Schema["Operation"], renew: (what: string) => void) {
  cache.setQueryData(["operation", operation.id], operation);
  void cache.invalidateQueries({ queryKey: ["log", operation.id] });
  if (operation.ended_at) renew("all");
  else renew("operation");
}

const concerned: Record<string, string[]> = {
  operation: ["overview", "operations", "line", "builds", "saved-sheets", "saved-sheet"],
  instance: ["overview", "instances", "instance", "counts", "line", "version", "lines"],
  replica: ["replicas", "version", "versions", "regions", "overview"],
  share: ["shares", "shared-versions", "overview", "line", "version"],
};

/** Renews after a short pause, once for many changes; what never changes ("still") is left alone. */
function gathered(cache: QueryClient): (what: string) => void {
  const waiting = new Set<string>();
  let timer: ReturnType<typeof setTimeout> | undefined;
  return (what) => {
    waiting.add(what);
    timer ??= setTimeout(() => {
      timer = undefined;
      const keys = new Set([...waiting].flatMap((one) => concerned[one] ?? []));
      const all = waiting.has("all");
      waiting.clear();
      void cache.invalidateQueries({
        predicate: ({ queryKey: [key] }) => key !== "still" && key !== "session" && (all || keys.has(String(key))),
      });
    }, GATHERED_FOR);
  };
}
