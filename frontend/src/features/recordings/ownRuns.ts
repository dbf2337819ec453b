const KEY = "sondar-own-run";

/** Remember in this tab that the run was begun here: only who began it keeps it going, others watch. */
export function begunHere(runId: string): void {
  sessionStorage.setItem(KEY, runId);
}

/** True in the tab that began the run, after a reload too. */
export function isOwn(runId: string): boolean {
  return sessionStorage.getItem(KEY) === runId;
}
