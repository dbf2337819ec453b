import type { CircuitSummary } from "../../api/client";

/** All the words looked for are in its names or its complaint. */
export function isCalled(circuit: CircuitSummary, sought: string): boolean {
  const names = [circuit.title, circuit.make, circuit.complaint, circuit.slug, ...circuit.synonyms]
    .join(" ")
    .toLowerCase();
  return sought
    .toLowerCase()
    .split(/\s+/)
    .every((word) => names.includes(word));
}
