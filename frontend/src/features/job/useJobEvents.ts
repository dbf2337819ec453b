import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { isWriting } from "../../api/client";

const SETTLE_MS = 80;

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
    const source = new EventSource(`/api/v1/jobs/${jobId}/events`);
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
    source.addEventListener("entry", (event) => {
      latest = Math.max(latest, Number(event.lastEventId) || Number.POSITIVE_INFINITY);
      refresh();
    });
    const everything = () => {
      latest = Number.POSITIVE_INFINITY;
      refresh();
    };
    source.addEventListener("resync", everything);
    let begun = false;
    source.addEventListener("ready", () => {
      // A stream that begins anew may have missed something between the two.
      if (begun) everything();
      begun = true;
    });
    return () => {
      window.clearTimeout(timer);
      source.close();
    };
  }, [client, jobId]);
}
