import { keepPreviousData, queryOptions } from "@tanstack/react-query";
import { api, type Schema, unwrap } from "../../api/client";

export type Recording = Schema["RecordingView"];
export type Opened = Schema["OpenedRecording"];
export type Channel = Schema["ChannelView"];
export type Lane = Schema["LaneView"];
export type Feature = Schema["FeatureView"];
export type Mapping = Schema["MappingIn"];
export type Line = Schema["LineView"];

const AGAIN_MS = 700;

export const recordingsQuery = (jobId: string) =>
  queryOptions({
    queryKey: ["recordings", jobId],
    refetchInterval: (query) =>
      query.state.data?.recordings.some((one) => one.state === "reading") ? AGAIN_MS : false,
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}/recordings", { params: { path: { job_id: jobId } } })),
  });

export const recordingQuery = (recordingId: string) =>
  queryOptions({
    queryKey: ["recording", recordingId],
    refetchInterval: (query) => (query.state.data?.recording.state === "reading" ? AGAIN_MS : false),
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/recordings/{recording_id}", {
          params: { path: { recording_id: recordingId } },
        }),
      ),
  });

export const linesQuery = (
  recordingId: string,
  span: readonly [number, number],
  columns: number,
  channels: readonly number[],
  samples: number,
) =>
  queryOptions({
    queryKey: ["recording-lines", recordingId, span, columns, channels, samples],
    enabled: channels.length > 0 && span[1] > span[0],
    placeholderData: keepPreviousData,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async ({ signal }) =>
      unwrap(
        await api.GET("/api/v1/recordings/{recording_id}/lines", {
          params: {
            path: { recording_id: recordingId },
            query: { start_s: span[0], end_s: span[1], columns, channels: channels.join(",") },
          },
          signal,
        }),
      ),
  });

export const featuresQuery = (
  recordingId: string,
  span: readonly [number, number],
  channel: number,
  other: number | null,
) =>
  queryOptions({
    queryKey: ["recording-features", recordingId, span, channel, other],
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async ({ signal }) =>
      unwrap(
        await api.GET("/api/v1/recordings/{recording_id}/features", {
          params: {
            path: { recording_id: recordingId },
            query: {
              start_s: span[0],
              end_s: span[1],
              channel,
              ...(other === null ? {} : { other }),
            },
          },
          signal,
        }),
      ),
  });

export const filePreviewQuery = (recordingId: string | null) =>
  queryOptions({
    queryKey: ["recording-file", recordingId],
    enabled: recordingId !== null,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/recordings/{recording_id}/preview", {
          params: { path: { recording_id: recordingId as string } },
        }),
      ),
  });

export type Run = Schema["RunView"];
export type Offered = Schema["OfferedView"];

export const offeredQuery = (jobId: string) =>
  queryOptions({
    queryKey: ["commands", jobId],
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/jobs/{job_id}/commands", { params: { path: { job_id: jobId } } })),
  });

export type LoggedMeter = Schema["LoggedMeterIn"];

/** The recordings of a job, with the bench meter ready to be logged at the points of a test. */
export function logPath(jobId: string, meter: LoggedMeter): string {
  const { diagnosis_id, instrument, red, black, controls, unplugged } = meter;
  const wanted = JSON.stringify({ diagnosis_id, instrument, red, black, controls, unplugged });
  return `/jobs/${jobId}?${new URLSearchParams({ view: "recordings", meter: wanted })}`;
}

/** What ``logPath`` has put into an address; null if it is not there or not readable. */
export function loggedMeter(params: URLSearchParams): LoggedMeter | null {
  try {
    const found = JSON.parse(params.get("meter") ?? "null");
    return typeof found?.diagnosis_id === "string" && typeof found.red === "string" ? found : null;
  } catch {
    return null;
  }
}
