import type { JobDetail } from "../../api/client";

/** When it happens, as quick picks. */
export const CONDITIONS = [
  ["always", "all the time"],
  ["sometimes", "comes and goes"],
  ["cold", "only cold"],
  ["hot", "only warm"],
  ["wet", "rain, washing"],
  ["bumps", "bumps, bends"],
  ["load", "under load"],
  ["start", "when starting"],
].map(([key, title]) => ({ key: key as string, title: title as string }));

/** Where the vehicle has been, what it looks like. */
export const ENVIRONMENT = [
  ["salt", "salt, spray"],
  ["water", "water inside"],
  ["rodents", "gnawed"],
  ["accident", "accident repaired"],
  ["offroad", "rough ground"],
].map(([key, title]) => ({ key: key as string, title: title as string }));

/** Words for the keys that answers are kept by. */
export function wordsOf(detail: JobDetail): Map<string, string> {
  const known = [...CONDITIONS, ...ENVIRONMENT, ...detail.symptoms];
  return new Map([
    ...known.map((item): [string, string] => [item.key, item.title]),
    ...detail.parts.map((part): [string, string] => [part.id, part.title]),
  ]);
}
