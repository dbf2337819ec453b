import { useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { ApiError, api, type Problem, type Schema, unwrap } from "../../../api/client";
import { measuringQuery } from "../../../api/queries";
import { useMe } from "../../../api/session";
import { forgetEntry, keepEntry, keptEntries } from "./pending";

export type ReadingIn = Schema["ReadingIn"];

export interface Refused {
  reading: ReadingIn;
  problem: Problem;
}

interface Queue {
  pending: ReadingIn[];
  /** The server has not answered: entries are kept here and sent again. */
  waiting: boolean;
  /** The last entry the server would not take, with its reasons. */
  refused: Refused | null;
  add: (reading: ReadingIn) => void;
  forgetRefusal: () => void;
}

const RETRY_MS = 1500;

/**
 * Readings on their way to the server: shown at once, kept in the browser's own database over a reload, sent in order until taken.
 * Each carries its own key, so sending one twice does no harm.
 */
export function useReadings(diagnosisId: string): Queue {
  const client = useQueryClient();
  const account = useMe().data?.account_id ?? "";
  const [pending, setPending] = useState<ReadingIn[]>([]);
  const [loaded, setLoaded] = useState(false);
  const [waiting, setWaiting] = useState(false);
  const [refused, setRefused] = useState<Refused | null>(null);
  const busy = useRef(false);

  useEffect(() => {
    let wanted = true;
    void keptEntries(diagnosisId, account)
      .catch(() => [])
      .then((kept) => {
        if (!wanted) return;
        setPending((now) => [
          ...kept.filter((item) => now.every((own) => own.client_key !== item.client_key)),
          ...now,
        ]);
        setLoaded(true);
      });
    return () => {
      wanted = false;
    };
  }, [diagnosisId, account]);

  const leave = useCallback(
    (reading: ReadingIn) => {
      void forgetEntry(diagnosisId, reading).catch(() => undefined);
      setPending((all) => all.filter((item) => item.client_key !== reading.client_key));
    },
    [diagnosisId],
  );

  const sendFirst = useCallback(async () => {
    const first = pending[0];
    if (!first || busy.current) return;
    busy.current = true;
    // What is being worked out ahead follows from what is over now: the server may stop.
    void client.cancelQueries({ queryKey: ["foreseen", diagnosisId] });
    try {
      const answer = await api.POST("/api/v1/diagnoses/{diagnosis_id}/readings", {
        params: { path: { diagnosis_id: diagnosisId } },
        body: first,
      });
      // Signed out meanwhile, or the server is away: the entry stays here and is sent again.
      if (answer.response.status >= 500 || [401, 403, 429].includes(answer.response.status))
        throw new Error("not taken now");
      client.setQueryData(measuringQuery(diagnosisId).queryKey, unwrap(answer));
      for (const key of ["jobs", "job", "timeline"])
        client.invalidateQueries({ queryKey: [key], refetchType: "none" });
      setWaiting(false);
      leave(first);
    } catch (error) {
      if (error instanceof ApiError) {
        setRefused({ reading: first, problem: error.problem });
        leave(first);
      } else {
        setWaiting(true);
        window.setTimeout(() => setPending((all) => [...all]), RETRY_MS);
      }
    } finally {
      busy.current = false;
    }
  }, [client, diagnosisId, pending, leave]);

  useEffect(() => {
    if (loaded) void sendFirst();
  }, [sendFirst, loaded]);

  return {
    pending,
    waiting,
    refused,
    add: useCallback(
      (reading: ReadingIn) => {
        setRefused(null);
        void keepEntry(diagnosisId, account, reading).catch(() => undefined);
        setPending((all) => [...all, reading]);
      },
      [diagnosisId, account],
    ),
    forgetRefusal: useCallback(() => setRefused(null), []),
  };
}
