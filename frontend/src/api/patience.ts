import { useSyncExternalStore } from "react";
import { notReached, reached } from "./reach";

const ASKED_AGAIN_MS = 1000;
/** Longer than the server ever waits before it answers at all; uploads may take as long as they need. */
const UNANSWERED_MS = 25_000;

/** Nothing came back; whether the request arrived is not known. */
export class UnreachableError extends Error {
  constructor() {
    super("No connection to Sondar. Try again when it is back");
  }
}

/** Worked out for later: nobody waits for it. */
const AHEAD = /\/foreseen$/;

const working = new Map<Request, string>();
const watchers = new Set<() => void>();

function tell(request: Request, progress: string | null): void {
  if (progress === null) working.delete(request);
  else working.set(request, progress);
  for (const watcher of watchers) watcher();
}

/**
 * `fetch` for answers that may take long: status 202 says how far it is, and the same request again a second later gets the answer.
 * Writing requests carry a key of their own, so sending one again stores nothing twice.
 */
export async function patientFetch(request: Request): Promise<Response> {
  let next = request;
  try {
    for (;;) {
      const now = next;
      next = now.clone();
      const answer = await answered(now);
      if (answer.status !== 202) return answer;
      const said = (await answer.json()) as { working: string };
      if (!AHEAD.test(request.url)) tell(request, said.working);
      await new Promise((resolve) => window.setTimeout(resolve, ASKED_AGAIN_MS));
    }
  } finally {
    tell(request, null);
  }
}

async function answered(request: Request): Promise<Response> {
  const upload = request.headers.get("Content-Type")?.startsWith("multipart/") ?? false;
  const late = AbortSignal.timeout(UNANSWERED_MS);
  try {
    const answer = await fetch(request, upload ? {} : { signal: AbortSignal.any([request.signal, late]) });
    // A proxy answers for a server that is away.
    const away =
      [502, 503, 504].includes(answer.status) && !answer.headers.get("Content-Type")?.includes("json");
    if (away) throw new UnreachableError();
    reached();
    return answer;
  } catch (error) {
    if (request.signal.aborted) throw error;
    notReached();
    throw new UnreachableError();
  }
}

function latest(): string | null {
  return [...working.values()].at(-1) ?? null;
}

/** How far the server is with what takes long; empty text if it has not said, null if nothing does. */
export function useWorking(): string | null {
  return useSyncExternalStore((watcher) => {
    watchers.add(watcher);
    return () => watchers.delete(watcher);
  }, latest);
}
