import type { Schema } from "../../../api/client";
import { testKey } from "../draft/tests";
import type { ReadingIn } from "./useReadings";

type Foreseen = Schema["Foreseen"];
export type ForeseenResult = Schema["ForeseenResult"];

const PREFIXES: Record<string, number> = {
  p: 1e-12,
  n: 1e-9,
  u: 1e-6,
  µ: 1e-6,
  μ: 1e-6,
  m: 1e-3,
  "": 1,
  k: 1e3,
  K: 1e3,
  M: 1e6,
  G: 1e9,
};
const FIGURE =
  /^([+\-−]?)\s*(\d*)(?:[.,](\d*))?\s*([pnuµμmkKMG]?)(\d+)?\s*(?:V|volts?|Ω|ohms?|R|A|amps?|Hz|%|W|s|°C)?$/i;

/** A plain figure in SI units, as the server reads it; null for anything less plain, which only the server reads. */
export function plainFigure(text: string): number | null {
  const found = FIGURE.exec(text.trim());
  if (!found) return null;
  const [, sign, whole = "", decimals, prefix = "", tail] = found;
  if (!(whole || decimals) || (tail && (decimals !== undefined || !prefix))) return null;
  const scale = PREFIXES[prefix];
  if (scale === undefined) return null;
  const size = Number(`${whole || "0"}.${decimals || tail || "0"}`) * scale;
  return sign === "-" || sign === "−" ? -size : size;
}

function isResult(result: ForeseenResult, entry: string): boolean {
  const typed = entry.trim().toLowerCase();
  if (result.word !== null)
    return typed === result.word.toLowerCase() || typed === result.label.toLowerCase();
  const value = plainFigure(entry);
  return (
    value !== null &&
    result.low !== null &&
    result.high !== null &&
    value >= result.low &&
    value <= result.high
  );
}

/** What was worked out for these entries before they were made; null if it was not. */
export function follow(foreseen: Foreseen | undefined, entries: ReadingIn[]): ForeseenResult | null {
  let test = foreseen?.test ?? null;
  let results = foreseen?.results ?? [];
  let reached: ForeseenResult | null = null;
  for (const entry of entries) {
    if (!test || entry.supersedes || testKey(entry) !== testKey(test)) return null;
    const found: ForeseenResult | undefined = results.find((result) => isResult(result, entry.entry));
    if (!found) return null;
    reached = found;
    test = found.proposal?.test ?? null;
    results = found.then;
  }
  return reached;
}
