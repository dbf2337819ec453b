import { infiniteQueryOptions, keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, type TestIn, unwrap } from "./client";
import type { paths } from "./schema";

export type Stage = NonNullable<NonNullable<paths["/api/v1/jobs"]["get"]["parameters"]["query"]>["stage"]>;

/** Every list that is chosen from, and the glossary. */
export const listsQuery = queryOptions({
  queryKey: ["lists"],
  staleTime: Number.POSITIVE_INFINITY,
  queryFn: async () => unwrap(await api.GET("/api/v1/lists")),
});

export const jobsQuery = (q: string, stage: string) =>
  infiniteQueryOptions({
    queryKey: ["jobs", q, stage],
    initialPageParam: undefined as number | undefined,
    placeholderData: keepPreviousData,
    queryFn: async ({ pageParam }) =>
      unwrap(
        await api.GET("/api/v1/jobs", {
          params: { query: { q, stage: (stage || undefined) as Stage | undefined, before: pageParam } },
        }),
      ),
    getNextPageParam: (page) => page.next_before ?? undefined,
  });

export const circuitsQuery = queryOptions({
  queryKey: ["circuits"],
  queryFn: async () => unwrap(await api.GET("/api/v1/circuits")),
});

export const circuitQuery = (versionId: string | undefined) =>
  queryOptions({
    queryKey: ["circuit", versionId],
    enabled: versionId !== undefined,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/circuits/{version_id}", {
          params: { path: { version_id: versionId as string } },
        }),
      ),
  });

export const measuringQuery = (diagnosisId: string) =>
  queryOptions({
    queryKey: ["measuring", diagnosisId],
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/diagnoses/{diagnosis_id}", {
          params: { path: { diagnosis_id: diagnosisId } },
        }),
      ),
  });

/** `seq` is the last entry of the job that the screen knows: what is excluded, seized or answered changes a test's cost as readings do. */
export const previewQuery = (diagnosisId: string, test: TestIn | null, seq: number) =>
  queryOptions({
    queryKey: ["preview", diagnosisId, test, seq],
    enabled: test !== null,
    retry: false,
    queryFn: async () =>
      unwrap(
        await api.POST("/api/v1/diagnoses/{diagnosis_id}/preview", {
          params: { path: { diagnosis_id: diagnosisId } },
          body: test as TestIn,
        }),
      ),
  });

/** `seq` is the last entry that the screen knows; what would follow the next readings is kept for when there is no connection. */
export const foreseenQuery = (diagnosisId: string, seq: number, wanted: boolean) =>
  queryOptions({
    queryKey: ["foreseen", diagnosisId, seq],
    enabled: wanted,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async ({ signal }) =>
      unwrap(
        await api.GET("/api/v1/diagnoses/{diagnosis_id}/foreseen", {
          params: { path: { diagnosis_id: diagnosisId } },
          signal,
        }),
      ),
  });

export const jobQuery = (jobId: string) =>
  queryOptions({
    queryKey: ["job", jobId],
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}", { params: { path: { job_id: jobId } } })),
  });

/** `state` changes whenever something the triage goes by does. */
export const triageQuery = (jobId: string, state: string) =>
  queryOptions({
    queryKey: ["triage", jobId, state],
    placeholderData: keepPreviousData,
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}/triage", { params: { path: { job_id: jobId } } })),
  });

export const timelineQuery = (jobId: string) =>
  queryOptions({
    queryKey: ["timeline", jobId],
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}/timeline", { params: { path: { job_id: jobId } } })),
  });

export const modelsQuery = queryOptions({
  queryKey: ["models"],
  staleTime: 600_000,
  queryFn: async () => unwrap(await api.GET("/api/v1/vehicle-models")),
});

export const setupQuery = queryOptions({
  queryKey: ["setup"],
  queryFn: async () => unwrap(await api.GET("/api/v1/setup")),
});

export const calculatorsQuery = queryOptions({
  queryKey: ["calculators"],
  staleTime: Number.POSITIVE_INFINITY,
  queryFn: async () => unwrap(await api.GET("/api/v1/calculators")),
});

export const expectedValuesQuery = (
  diagnosisId: string,
  unit: string | null,
  setup: TestIn["setup"] | undefined,
  readings: number,
) =>
  queryOptions({
    queryKey: ["expected-values", diagnosisId, unit, setup, readings],
    enabled: unit !== null && setup !== undefined,
    placeholderData: keepPreviousData,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/diagnoses/{diagnosis_id}/expected-values", {
          params: {
            path: { diagnosis_id: diagnosisId },
            query: {
              unit: unit as string,
              controls: JSON.stringify(setup?.controls ?? {}),
              unplugged: (setup?.unplugged ?? []).join(","),
            },
          },
        }),
      ),
  });

export const proceduresQuery = (diagnosisId: string) =>
  queryOptions({
    queryKey: ["procedures", diagnosisId],
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/diagnoses/{diagnosis_id}/procedures", {
          params: { path: { diagnosis_id: diagnosisId } },
        }),
      ),
  });

export const procedureQuery = (diagnosisId: string, procedureId: string | null, readings: number) =>
  queryOptions({
    queryKey: ["procedures", diagnosisId, procedureId, readings],
    enabled: procedureId !== null,
    placeholderData: keepPreviousData,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/diagnoses/{diagnosis_id}/procedures/{procedure_id}", {
          params: { path: { diagnosis_id: diagnosisId, procedure_id: procedureId as string } },
        }),
      ),
  });

export const waveformQuery = (diagnosisId: string, test: TestIn | null, readings: number) =>
  queryOptions({
    queryKey: ["waveform", diagnosisId, test, readings],
    enabled: test !== null,
    retry: false,
    queryFn: async () =>
      unwrap(
        await api.POST("/api/v1/diagnoses/{diagnosis_id}/waveform", {
          params: { path: { diagnosis_id: diagnosisId } },
          body: test as TestIn,
        }),
      ),
  });
