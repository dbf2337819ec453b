import { useCallback, useState } from "react";

interface Steps<T> {
  before: T[];
  now: T;
  after: T[];
  of: string;
}

const MOST = 100;

/** A value with undo and redo. What is typed on in the same place is one step. */
export function useHistory<T>(first: T) {
  const [steps, setSteps] = useState<Steps<T>>({ before: [], now: first, after: [], of: "" });
  const change = useCallback((of: string, make: (now: T) => T) => {
    setSteps((steps) => {
      const now = make(steps.now);
      const before = of !== "" && of === steps.of ? steps.before : [...steps.before, steps.now].slice(-MOST);
      return { before, now, after: [], of };
    });
  }, []);
  const undo = useCallback(() => {
    setSteps((steps) => {
      const last = steps.before.at(-1);
      if (last === undefined) return steps;
      return { before: steps.before.slice(0, -1), now: last, after: [steps.now, ...steps.after], of: "" };
    });
  }, []);
  const redo = useCallback(() => {
    setSteps((steps) => {
      const [next, ...after] = steps.after;
      if (next === undefined) return steps;
      return { before: [...steps.before, steps.now], now: next, after, of: "" };
    });
  }, []);
  return {
    now: steps.now,
    change,
    undo,
    redo,
    canUndo: steps.before.length > 0,
    canRedo: steps.after.length > 0,
  };
}
