import { useCallback, useState } from "react";

export type Span = readonly [number, number];

/** Which stretch of a recording is seen, and the two cursors. */
export interface View {
  span: Span;
  a: number | null;
  b: number | null;
  show: (span: Span) => void;
  all: () => void;
  zoom: (factor: number, around?: number) => void;
  pan: (share: number) => void;
  place: (at: number) => void;
  forget: () => void;
}

const SHORTEST_S = 1e-4;

/** Zoom and pan within the whole of a recording; a tap sets the first cursor, the next one the second. */
export function useView(whole: Span): View {
  const [span, setSpan] = useState<Span | null>(null);
  const [cursors, setCursors] = useState<{ a: number | null; b: number | null }>({ a: null, b: null });
  const seen = span ?? whole;
  const show = useCallback(
    ([start, end]: Span) => {
      const length = Math.min(Math.max(end - start, SHORTEST_S), whole[1] - whole[0]);
      const from = Math.min(Math.max(start, whole[0]), whole[1] - length);
      setSpan([from, from + length]);
    },
    [whole],
  );
  return {
    span: seen,
    ...cursors,
    show,
    all: () => setSpan(null),
    zoom: (factor, around) => {
      const middle = around ?? cursors.a ?? (seen[0] + seen[1]) / 2;
      const inside = Math.min(Math.max(middle, seen[0]), seen[1]);
      show([inside - (inside - seen[0]) * factor, inside + (seen[1] - inside) * factor]);
    },
    pan: (share) => {
      const by = share * (seen[1] - seen[0]);
      show([seen[0] + by, seen[1] + by]);
    },
    place: (at) =>
      setCursors((now) => (now.a === null || now.b !== null ? { a: at, b: null } : { a: now.a, b: at })),
    forget: () => setCursors({ a: null, b: null }),
  };
}
