import { del, entries, set } from "idb-keyval";
import type { Schema } from "../../../api/client";

type ReadingIn = Schema["ReadingIn"];

interface Kept {
  reading: ReadingIn;
  at: number;
  /** Whose entry it is: nobody else sends it. */
  by?: string;
}

const prefix = (diagnosisId: string) => `sondar-pending-${diagnosisId}-`;

/**
 * Entries of a diagnosis that this person has made and the server has not yet taken, of every tab, oldest first: each stands under its
 * own key, so no tab overwrites another's.
 */
export async function keptEntries(diagnosisId: string, account: string): Promise<ReadingIn[]> {
  const all = await entries<string, Kept>();
  return all
    .filter(([key]) => typeof key === "string" && key.startsWith(prefix(diagnosisId)))
    .map(([, kept]) => kept)
    .filter((kept) => !kept.by || kept.by === account)
    .sort((a, b) => a.at - b.at)
    .map((kept) => kept.reading);
}

export function keepEntry(diagnosisId: string, account: string, reading: ReadingIn): Promise<void> {
  return set(prefix(diagnosisId) + reading.client_key, { reading, at: Date.now(), by: account });
}

export function forgetEntry(diagnosisId: string, reading: ReadingIn): Promise<void> {
  return del(prefix(diagnosisId) + reading.client_key);
}
