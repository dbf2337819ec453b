import type { Circuit, Measuring } from "../../../api/client";

type Readings = Measuring["readings"];

/** The newest reading at each point that has not been voided, taken against the usual place of the black probe. */
export function latestAtPoints(readings: Readings, black: string): Map<string, string> {
  const found = new Map<string, string>();
  for (const reading of readings) {
    if (reading.voided_because === null && (reading.black === black || reading.black === "chassis")) {
      found.set(reading.red, reading.label.replace(/ V$/, ""));
    }
  }
  return found;
}

/** Least distance of two figures on the drawing, in drawing units. */
const APART = 17;

interface Span {
  key: string;
  column: number;
  top: number;
  bottom: number;
  label: string;
  /** Where the figure stands. */
  at: number;
}

/**
 * Readings taken across a stretch of one line: the newest per pair of points, hung on a bracket between them. A figure keeps clear of
 * those at points and of newer ones; where there is no room it is left to the list.
 */
export function spans(
  readings: Readings,
  circuit: Circuit,
  shown: Map<string, string>,
  y: (row: number) => number,
): Span[] {
  const marks = new Map(circuit.drawing.marks.map((mark) => [mark.ref, mark]));
  const taken = new Map<number, number[]>();
  const occupy = (column: number, at: number) => taken.set(column, [...(taken.get(column) ?? []), at]);
  for (const ref of shown.keys()) {
    const mark = marks.get(ref);
    if (mark) occupy(mark.column, y(mark.y));
  }
  const found = new Map<string, Span>();
  for (const reading of [...readings].reverse()) {
    const red = marks.get(reading.red);
    const black = marks.get(reading.black);
    const key = [reading.red, reading.black].sort().join(" ");
    if (reading.voided_because !== null || !red || !black || red.column !== black.column || found.has(key))
      continue;
    const [top, bottom] = [red.y, black.y].sort((a, b) => a - b) as [number, number];
    const middle = (y(top) + y(bottom)) / 2;
    const room = (y(bottom) - y(top)) / 2;
    const steps = [0, 1, -1, 2, -2, 3, -3]
      .map((step) => step * APART)
      .filter((step) => Math.abs(step) <= room);
    const free = steps
      .map((step) => middle + step)
      .find((at) => (taken.get(red.column) ?? []).every((other) => Math.abs(other - at) >= APART));
    if (free === undefined) continue;
    occupy(red.column, free);
    found.set(key, {
      key,
      column: red.column,
      top,
      bottom,
      label: reading.label.replace(/ V$/, ""),
      at: free,
    });
  }
  return [...found.values()];
}

/** Width of a sign of a figure, and what a figure on a bracket keeps from its line, in drawing units. */
const SIGN = 7.6;
const FROM_LINE = 43;

/** How much room figures on brackets need beyond the left edge. */
export function spill(across: Span[], left: number, pitch: number): number {
  const beyond = across.map((span) => span.label.length * SIGN - (left + span.column * pitch - FROM_LINE));
  return Math.max(0, ...beyond);
}
