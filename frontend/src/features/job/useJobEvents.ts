import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { isWriting } from "../../api/client";
import { listen } from "../../api/events";

const SETTLE_MS = 80;
const FRESH_MS = 1000;

/**
 * Listens to what others add to a job and fetches it: two tablets on one job agree within a second.
 * An event carries the number of the entry. What the screen already knows, because the answer to its own entry brought it, is
 * not fetched again; while an own entry is on its way the event waits for its answer.
 */
export function useJobEvents(jobId: string | undefined, lastSeq: number | undefined): void {
  const client = useQueryClient();
  const known = useRef(lastSeq);
  known.current = lastSeq;
  useEffect(() => {
    if (!jobId) return;
    const begun = performance.now();
    let timer = 0;
    let latest = 0;
    const refresh = () => {
      window.clearTimeout(timer);
      timer = window.setTimeout(() => {
        if (isWriting()) refresh();
        else if (latest > (known.current ?? -1)) {
          latest = 0;
          for (const key of ["job", "timeline", "measuring"]) client.invalidateQueries({ queryKey: [key] });
        }
      }, SETTLE_MS);
    };
    const end = listen((entry) => {
      if (entry && entry.job !== jobId) return;
      // What this page has just fetched for the first time need not be fetched again because its stream begins.
      if (!entry && performance.now() - begun < FRESH_MS) return;
      latest = Math.max(latest, entry ? entry.seq : Number.POSITIVE_INFINITY);
      refresh();
    });
    return () => {
      window.clearTimeout(timer);
      end();
    };
  }, [client, jobId]);
}
