import createClient from "openapi-fetch";
import { patientFetch } from "./patience";
import type { components, paths } from "./schema";

export type Schema = components["schemas"];
export type Measuring = Schema["MeasuringView"];
export type Job = Schema["JobView"];
export type Circuit = Schema["CircuitDetail"];
export type CircuitSummary = Schema["CircuitSummary"];
export type Proposal = Schema["ProposalView"];
export type TestIn = Schema["TestIn"];
export type Problem = Schema["ProblemDetails"] & { current?: unknown; meant?: string };
export type JobDetail = Schema["JobDetailView"];
export type Triage = Schema["TriageView"];
export type Code = Schema["CodeView"];
export type Me = Schema["Me"];

export const api = createClient<paths>({ baseUrl: "", fetch: patientFetch });

let csrf = "";

/** The session's own token, which every writing request carries. */
export function setCsrf(token: string): void {
  csrf = token;
}

let writing = 0;
let ended = 0;

const TAKEN_OVER_MS = 250;

/** Requests that may change something are on their way, or their answer is just being shown: it brings what an event only announces. */
export function isWriting(): boolean {
  return writing > 0 || performance.now() - ended < TAKEN_OVER_MS;
}

function written(request: Request): void {
  if (request.method === "GET") return;
  writing -= 1;
  ended = performance.now();
}

api.use({
  onRequest({ request }) {
    if (csrf) request.headers.set("X-CSRF-Token", csrf);
    if (request.method !== "GET") writing += 1;
    return request;
  },
  onResponse({ request }) {
    written(request);
  },
  onError({ request }) {
    written(request);
  },
});

/** An error the server explained; `problem` holds its words and the fields at fault. */
export class ApiError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

/** Data of an answer, or a thrown `ApiError`. Network failures stay what `fetch` throws. */
export function unwrap<T>(answer: { data?: T; error?: unknown; response: Response }): T {
  if (answer.data !== undefined && answer.response.ok) return answer.data;
  const found = answer.error as Partial<Problem> | undefined;
  throw new ApiError({
    type: "about:blank",
    title: found?.title ?? "Not done",
    status: answer.response.status,
    detail: found?.detail ?? `The server answered ${answer.response.status}. Try again.`,
    errors: found?.errors ?? [],
    current: found?.current,
    meant: found?.meant,
  });
}
