import { useSyncExternalStore } from "react";

const LOOKED_AFTER_MS = 2000;

let since: number | null = null;
let timer = 0;
const watchers = new Set<() => void>();
const returns = new Set<() => void>();

function tell(at: number | null): void {
  since = at;
  for (const watcher of watchers) watcher();
}

/** The server has answered, whatever it said. */
export function reached(): void {
  if (since === null) return;
  window.clearInterval(timer);
  tell(null);
  for (const back of returns) back();
}

/** Nothing came back: from now on it is asked every other second whether it is there again. */
export function notReached(): void {
  if (since !== null) return;
  tell(Date.now());
  timer = window.setInterval(look, LOOKED_AFTER_MS);
}

async function look(): Promise<void> {
  try {
    const answer = await fetch("/api/v1/health", {
      cache: "no-store",
      signal: AbortSignal.timeout(LOOKED_AFTER_MS),
    });
    if (answer.ok) reached();
  } catch {
    // Still away.
  }
}

/** Calls back when the server answers again after it did not; returns how to stop. */
export function onReturn(back: () => void): () => void {
  returns.add(back);
  return () => returns.delete(back);
}

/** Since when the server has not been reached, in ms since 1970; null if it answers. */
export function useUnreachable(): number | null {
  return useSyncExternalStore(
    (watcher) => {
      watchers.add(watcher);
      return () => watchers.delete(watcher);
    },
    () => since,
  );
}
