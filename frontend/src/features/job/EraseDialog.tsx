import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { api, type Job, unwrap } from "../../api/client";
import { jobQuery } from "../../api/queries";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

/** Erases what tells whose vehicle it is; says first what goes and what stays. */
export function EraseDialog(props: { job: Job; open: boolean; onClose: () => void }) {
  const client = useQueryClient();
  const [words, setWords] = useState(true);
  const erase = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/v1/jobs/{job_id}/erasure", {
          params: { path: { job_id: props.job.id } },
          body: { words },
        }),
      ),
    onSuccess: (answer) => {
      client.setQueryData(jobQuery(props.job.id).queryKey, answer);
      for (const key of ["jobs", "timeline", "measuring"]) client.invalidateQueries({ queryKey: [key] });
      props.onClose();
    },
  });
  return (
    <Dialog.Root open={props.open} onOpenChange={(open) => !open && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[15%] left-1/2 w-[min(36rem,94vw)] -translate-x-1/2 rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">
            Erase personal data of {props.job.plate || `job ${props.job.number}`}?
          </Dialog.Title>
          <Dialog.Description asChild>
            <div className="my-3 space-y-2">
              <p>
                Plate, VIN and photographs go from every job of this vehicle, and its links end. Readings,
                codes, conclusions and repairs stay. This cannot be undone; backups made before still hold it.
              </p>
            </div>
          </Dialog.Description>
          <label className="flex min-h-11 items-center gap-3">
            <input
              type="checkbox"
              checked={words}
              onChange={(event) => setWords(event.target.checked)}
              className="h-5 w-5 accent-[var(--depth-5)]"
            />
            Also complaint, notes and other free text, which may name people
          </label>
          {erase.error && <Notice tone="problem">{erase.error.message}</Notice>}
          <div className="mt-4 flex justify-end gap-2">
            <Button kind="quiet" onClick={props.onClose}>
              Cancel
            </Button>
            <Button onClick={() => erase.mutate()} disabled={erase.isPending}>
              Erase
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
