import { queryOptions } from "@tanstack/react-query";
import { api, type TestIn, unwrap } from "./client";

export const jobsQuery = queryOptions({
  queryKey: ["jobs"],
  queryFn: async () => unwrap(await api.GET("/api/v1/jobs")),
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

export const benchQuery = (jobId: string) =>
  queryOptions({
    queryKey: ["bench", jobId],
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}/bench", { params: { path: { job_id: jobId } } })),
  });

export const previewQuery = (jobId: string, test: TestIn | null, readings: number) =>
  queryOptions({
    queryKey: ["preview", jobId, test, readings],
    enabled: test !== null,
    retry: false,
    queryFn: async () =>
      unwrap(
        await api.POST("/api/v1/jobs/{job_id}/preview", {
          params: { path: { job_id: jobId } },
          body: test as TestIn,
        }),
      ),
  });
