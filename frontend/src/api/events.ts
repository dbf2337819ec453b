/** Something was added to a job; `seq` is its number there. Null: events may have been missed, whatever is shown is to be fetched. */
export type Entry = { job: string; seq: number } | null;
type Listener = (entry: Entry) => void;

const NAME = "sondar-events";

const listeners = new Set<Listener>();
const channel = "BroadcastChannel" in window ? new BroadcastChannel(NAME) : null;
let end: (() => void) | null = null;

function hear(entry: Entry): void {
  for (const listener of listeners) listener(entry);
}

if (channel) channel.onmessage = (event: MessageEvent<Entry>) => hear(event.data);

function tell(entry: Entry): void {
  hear(entry);
  channel?.postMessage(entry);
}

/** The stream itself, with what it brings told to every tab; returns how to close it. */
function open(): () => void {
  const source = new EventSource("/api/v1/events");
  source.addEventListener("entry", (event) => {
    const { job, seq } = JSON.parse(event.data) as { job: string; seq: number };
    tell({ job, seq });
  });
  source.addEventListener("resync", () => tell(null));
  // A stream that begins anew, here or in place of a tab that was closed, may have missed something in between.
  source.addEventListener("ready", () => tell(null));
  return () => source.close();
}

/**
 * A browser holds six connections to a server, so its tabs share one stream: one tab has it and tells the others; when that tab is
 * closed the next one takes over. Where the browser has no locks (plain HTTP from another machine) every tab has a stream of its own.
 */
function begin(): () => void {
  if (!navigator.locks || !channel) return open();
  const given = new AbortController();
  let close = () => {};
  let leave = () => {};
  void navigator.locks
    .request(NAME, { signal: given.signal }, () => {
      close = open();
      return new Promise<void>((resolve) => {
        leave = resolve;
      });
    })
    .catch(() => undefined);
  return () => {
    given.abort();
    close();
    leave();
  };
}

/** Hears of every entry that is added to a job of the workshop, until the returned function is called. */
export function listen(listener: Listener): () => void {
  listeners.add(listener);
  end ??= begin();
  return () => {
    listeners.delete(listener);
    if (listeners.size === 0) {
      end?.();
      end = null;
    }
  };
}
