import type { Query, QueryClient, QueryPersister } from "@tanstack/react-query";
import { createStore, delMany, entries, get, set, type UseStore } from "idb-keyval";
import { ApiError } from "./client";

interface Seen {
  data: unknown;
  at: number;
  version: string;
}

const LASTS_MS = 24 * 3600 * 1000;
const MOST = 80;

/** What is needed to go on with a job; lists of people, meters and sessions are not kept. */
const KEPT = new Set([
  "me",
  "lists",
  "jobs",
  "job",
  "measuring",
  "circuit",
  "circuits",
  "triage",
  "timeline",
  "models",
  "calculators",
  "foreseen",
  "procedures",
]);

/** Made when first used: a browser that forbids databases throws, and then nothing is kept. */
let opened: UseStore | null = null;
const store = () => {
  opened ??= createStore("sondar-seen", "seen");
  return opened;
};

/** Answers handed out again from what was kept: they are not news. */
const handedOut = new WeakSet<object>();

function keep(query: Query): void {
  const { data } = query.state;
  if (
    !KEPT.has(String(query.queryKey[0])) ||
    typeof data !== "object" ||
    data === null ||
    handedOut.has(data)
  )
    return;
  const seen: Seen = { data, at: Date.now(), version: __BUILD__ };
  void Promise.resolve()
    .then(() => set(query.queryHash, seen, store()))
    .catch(() => undefined);
}

/** Everything of a signed-out person goes. */
export function forgetSeen(): Promise<void> {
  return Promise.resolve()
    .then(() => entries<string, Seen>(store()))
    .then((all) =>
      delMany(
        all.map(([key]) => key),
        store(),
      ),
    )
    .catch(() => undefined);
}

async function forgetOld(): Promise<void> {
  const all = await entries<string, Seen>(store());
  all.sort(([, a], [, b]) => b.at - a.at);
  const old = all.filter(
    ([, seen], place) => place >= MOST || Date.now() - seen.at > LASTS_MS || seen.version !== __BUILD__,
  );
  await delMany(
    old.map(([key]) => key),
    store(),
  );
}

/** Keeps what the screens have last shown, from whatever request it came, so that a reload without a connection shows it again. */
export function keepWhatIsSeen(client: QueryClient): void {
  void Promise.resolve()
    .then(forgetOld)
    .catch(() => undefined);
  client.getQueryCache().subscribe((event) => {
    if (event.type === "updated" && event.action.type === "success") keep(event.query);
  });
}

/** The server first; what was last seen where it cannot be reached and the page has nothing yet. */
export const seenWhereUnreachable: QueryPersister = async (fetched, context, query) => {
  try {
    return await fetched(context);
  } catch (error) {
    const answered = error instanceof ApiError && error.problem.status < 500;
    if (answered || query.state.data !== undefined) throw error;
    const seen = await Promise.resolve()
      .then(() => get<Seen>(query.queryHash, store()))
      .catch(() => undefined);
    if (!seen || seen.version !== __BUILD__ || Date.now() - seen.at > LASTS_MS) throw error;
    handedOut.add(seen.data as object);
    return seen.data as never;
  }
};
