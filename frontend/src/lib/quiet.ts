import { useEffect, useState } from "react";

/** True once `thing` has not changed for some time. */
export function useQuiet(thing: unknown, ms: number): boolean {
  const [settled, setSettled] = useState<{ thing: unknown } | null>(null);
  useEffect(() => {
    const timer = window.setTimeout(() => setSettled({ thing }), ms);
    return () => window.clearTimeout(timer);
  }, [thing, ms]);
  return settled !== null && settled.thing === thing;
}
