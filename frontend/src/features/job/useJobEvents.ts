import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/**
 * Listens to what others add to a job and fetches it: two tablets on one job agree within a second.
 * An event says only that something changed, so a missed one costs nothing once the next arrives or the stream reconnects.
 */
export function useJobEvents(jobId: string | undefined): void {
  const client = useQueryClient();
  useEffect(() => {
    if (!jobId) return;
    const source = new EventSource(`/api/v1/jobs/${jobId}/events`);
    let timer = 0;
    const refresh = () => {
      window.clearTimeout(timer);
      timer = window.setTimeout(() => {
        for (const key of ["job", "timeline", "bench"]) client.invalidateQueries({ queryKey: [key] });
      }, 60);
    };
    source.addEventListener("entry", refresh);
    source.addEventListener("resync", refresh);
    return () => {
      window.clearTimeout(timer);
      source.close();
    };
  }, [client, jobId]);
}
