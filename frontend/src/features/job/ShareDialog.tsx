import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { api, unwrap } from "../../api/client";
import { when } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

/** Read-only links to a job: make one, see which are open, end one. */
export function ShareDialog(props: { jobId: string; open: boolean; onClose: () => void }) {
  const client = useQueryClient();
  const path = { params: { path: { job_id: props.jobId } } };
  const key = ["shares", props.jobId];
  const [days, setDays] = useState(14);
  const [personal, setPersonal] = useState(false);
  const list = useQuery({
    queryKey: key,
    enabled: props.open,
    queryFn: async () => unwrap(await api.GET("/api/v1/jobs/{job_id}/shares", path)),
  });
  const add = useMutation({
    mutationFn: async () =>
      unwrap(await api.POST("/api/v1/jobs/{job_id}/shares", { ...path, body: { days, personal } })),
    onSuccess: (answer) => client.setQueryData(key, answer),
  });
  const end = useMutation({
    mutationFn: async (id: string) =>
      unwrap(
        await api.DELETE("/api/v1/jobs/{job_id}/shares/{share_id}", {
          params: { path: { job_id: props.jobId, share_id: id } },
        }),
      ),
    onSuccess: (answer) => {
      add.reset();
      client.setQueryData(key, answer);
    },
  });
  const link = add.data?.token ? `${window.location.origin}/s/${add.data.token}` : "";
  return (
    <Dialog.Root open={props.open} onOpenChange={(open) => !open && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[15%] left-1/2 w-[min(36rem,94vw)] -translate-x-1/2 rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">Show this job to someone</Dialog.Title>
          <Dialog.Description className="mb-3 text-soft">
            A link that shows complaint, codes, readings, conclusion and what was done as they are now,
            without names, notes or photographs. Whoever has it can look until it ends; what is added later is
            not shown.
          </Dialog.Description>
          {link ? (
            <label className="block text-sm text-soft">
              Copy it now, it is not shown again
              <input
                readOnly
                value={link}
                data-testid="share-link"
                onFocus={(event) => event.target.select()}
                className="mt-1 block min-h-11 w-full border border-ink/60 bg-raised px-3 text-ink"
              />
            </label>
          ) : (
            <div className="flex flex-wrap items-end gap-3">
              <label className="text-sm text-soft">
                Ends after, days
                <input
                  type="number"
                  min={1}
                  max={90}
                  value={days}
                  onChange={(event) => setDays(Number(event.target.value))}
                  className="mt-1 block min-h-11 w-24 border border-ink/60 bg-raised px-3 text-ink"
                />
              </label>
              <label className="flex min-h-11 items-center gap-2">
                <input
                  type="checkbox"
                  className="size-5"
                  checked={personal}
                  onChange={(event) => setPersonal(event.target.checked)}
                />
                with the plate
              </label>
              <Button onClick={() => add.mutate()} disabled={add.isPending || days < 1 || days > 90}>
                Make a link
              </Button>
            </div>
          )}
          {(add.error ?? end.error) && <Notice tone="problem">{(add.error ?? end.error)?.message}</Notice>}
          <ul className="mt-4 border-t border-rule text-sm">
            {list.data?.shares.map((share) => (
              <li key={share.id} className="flex min-h-11 items-center gap-3 border-b border-rule">
                <span className="flex-1">
                  {share.by ?? "Someone"}, {when(share.created_at)}. Opened {share.opened}×.{" "}
                  {share.revoked ? "Ended." : `Ends ${when(share.expires_at)}.`}
                </span>
                {!share.revoked && (
                  <Button kind="quiet" onClick={() => end.mutate(share.id)}>
                    End it
                  </Button>
                )}
              </li>
            ))}
          </ul>
          <div className="mt-4 flex justify-end">
            <Button onClick={props.onClose}>Done</Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
