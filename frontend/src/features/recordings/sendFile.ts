import { api, unwrap } from "../../api/client";
import type { Recording } from "./calls";

/** Announces a file; the same file again goes on where it stopped. */
export async function announce(jobId: string, file: File): Promise<Recording> {
  return unwrap(
    await api.POST("/api/v1/jobs/{job_id}/recordings", {
      params: { path: { job_id: jobId } },
      body: { client_key: await keyOf(jobId, file), name: file.name.slice(0, 200), bytes: file.size },
    }),
  );
}

/** A key that follows from the file, so that the same file is the same recording after a reload, too. */
async function keyOf(jobId: string, file: File): Promise<string> {
  const words = `${jobId} ${file.name} ${file.size} ${file.lastModified}`;
  if (!crypto.subtle) return crypto.randomUUID();
  const hash = new Uint8Array(await crypto.subtle.digest("SHA-256", new TextEncoder().encode(words)));
  const hex = [...hash.slice(0, 16)].map((byte) => byte.toString(16).padStart(2, "0")).join("");
  return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-5${hex.slice(13, 16)}-8${hex.slice(17, 20)}-${hex.slice(20, 32)}`;
}

/** Sends the pieces that are not there yet; tells after each which share has arrived. Stops when `stopped` is aborted. */
export async function sendPieces(
  recording: Recording,
  file: File,
  pieceBytes: number,
  stopped: AbortSignal,
  told: (share: number) => void,
): Promise<void> {
  const path = { params: { path: { recording_id: recording.id } } };
  const { pieces } = unwrap(await api.GET("/api/v1/recordings/{recording_id}/pieces", path));
  const all = Math.max(1, Math.ceil(file.size / pieceBytes));
  let left = pieces.length;
  told(1 - left / all);
  for (const number of pieces) {
    stopped.throwIfAborted();
    const form = new FormData();
    form.append("piece", file.slice(number * pieceBytes, (number + 1) * pieceBytes), "piece");
    unwrap(
      await api.PUT("/api/v1/recordings/{recording_id}/pieces/{number}", {
        params: { path: { recording_id: recording.id, number } },
        body: form as unknown as { piece: string },
        bodySerializer: (body) => body as unknown as FormData,
        signal: stopped,
      }),
    );
    left -= 1;
    told(1 - left / all);
  }
}
