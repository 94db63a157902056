/// <reference lib="webworker" />
/** One stream of events for all tabs: a browser opens only six connections to one host. */

export type Told = { account: string; name: string; data: string };
type Asked = { follow: string } | { bye: true };

const names = ["event", "operation", "changed", "everything", "beat", "ended"];
const AGAIN_AFTER = 2000;
const SILENT_AFTER = 25_000;

const readers = new Map<MessagePort, string>();
const streams = new Map<string, { source: EventSource; last: string; heard: number }>();

function tell(told: Told) {
  for (const [port, account] of readers) if (account === told.account) port.postMessage(told);
}

function open(account: string, last = "") {
  const source = new EventSource(`/api/v1/feed?account=${encodeURIComponent(account)}`);
  const stream = { source, last, heard: Date.now() };
  streams.set(account, stream);
  source.onopen = () => tell({ account, name: "open", data: "" });
  for (const name of names) {
    source.addEventListener(name, (event) => {
      stream.heard = Date.now();
      if ((event as MessageEvent).lastEventId) stream.last = (event as MessageEvent).lastEventId;
      tell({ account, name, data: (event as MessageEvent).data });
    });
  }
  source.onerror = () => {
    tell({ account, name: "lost", data: "" });
    // After an answer other than 200 it stays closed: a new one is needed.
    if (source.readyState === EventSource.CLOSED) again(account);
  };
}

function again(account: string) {
  streams.get(account)?.source.close();
  streams.delete(account);
  setTimeout(() => {
    if ([...readers.values()].includes(account) && !streams.has(account)) open(account);
  }, AGAIN_AFTER);
}

function tidy() {
  const wanted = new Set(readers.values());
  for (const [account, stream] of streams) {
    if (!wanted.has(account)) {
      stream.source.close();
      streams.delete(account);
    } else if (Date.now() - stream.heard > SILENT_AFTER) again(account);
  }
}
setInterval(tidy, 5000);

(self as unknown as SharedWorkerGlobalScope).onconnect = (connection) => {
  const port = connection.ports[0]!;
  port.onmessage = (message: MessageEvent<Asked>) => {
    if ("bye" in message.data) readers.delete(port);
    else {
      readers.set(port, message.data.follow);
      if (!streams.has(message.data.follow)) open(message.data.follow);
    }
    tidy();
  };
};
