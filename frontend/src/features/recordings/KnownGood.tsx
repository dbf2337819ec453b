import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, unwrap } from "../../api/client";
import { AskDialog } from "../../ui/AskDialog";
import { Button } from "../../ui/Button";
import type { Opened } from "./calls";

/** Keeps a recording of a vehicle that is in order, so that others of the same make and model are held against it. */
export function KnownGood({ opened }: { opened: Opened }) {
  const { recording, known_good } = opened;
  const client = useQueryClient();
  const [asking, setAsking] = useState(false);
  const say = useMutation({
    mutationFn: async (said: string) =>
      unwrap(
        await api.PUT("/api/v1/recordings/{recording_id}/known-good", {
          params: { path: { recording_id: recording.id } },
          body: { said },
        }),
      ),
    onSuccess: (answer) => client.setQueryData(["recording", recording.id], answer),
  });
  return (
    <>
      {known_good ? (
        <span className="flex items-center gap-1">
          <strong className="font-[650]">Known good</strong>, {known_good}
          <Button kind="quiet" disabled={say.isPending} onClick={() => say.mutate("")}>
            not any more
          </Button>
        </span>
      ) : (
        <Button kind="quiet" disabled={say.isPending} onClick={() => setAsking(true)}>
          Keep as known good
        </Button>
      )}
      <AskDialog
        open={asking}
        title="A vehicle that is in order"
        choices={["warm, at idle", "cold start", "key on, engine off", "after the repair"]}
        accept="Keep it"
        onClose={() => setAsking(false)}
        onAccept={(said) => {
          say.mutate(said);
          setAsking(false);
        }}
      >
        Recordings of the same make and model can be held against it. Under which conditions was it taken?
      </AskDialog>
    </>
  );
}
