import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type Measuring, unwrap } from "../../api/client";
import { measuringQuery } from "../../api/queries";
import { sendOnce } from "../../lib/keys";
import { AskDialog } from "../../ui/AskDialog";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

/** Records what was repaired; from then on readings speak about the vehicle after it. */
export function RecordRepair({ measuring }: { measuring: Measuring }) {
  const { conclusion, suspects } = measuring.assessment;
  const named = suspects.filter((suspect) => !["none", "unknown"].includes(suspect.unit)).slice(0, 6);
  const leading = conclusion.units.filter((unit) => named.some((suspect) => suspect.unit === unit));
  const [asking, setAsking] = useState(false);
  const [units, setUnits] = useState<string[] | null>(null);
  const chosen = units ?? leading.slice(0, 1);
  const client = useQueryClient();
  const id = measuring.diagnosis.id;
  const repair = useMutation({
    mutationFn: (action: string) =>
      sendOnce(["repair", id, chosen, action], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/diagnoses/{diagnosis_id}/repairs", {
            params: { path: { diagnosis_id: id } },
            body: {
              client_key,
              units: chosen,
              action,
              substituted: action === "Known good part fitted to try",
            },
          }),
        ),
      ),
    onSuccess: (answer) => {
      client.setQueryData(measuringQuery(id).queryKey, answer);
      client.invalidateQueries({ queryKey: ["timeline"], refetchType: "none" });
      setUnits(null);
    },
  });
  if (named.length === 0) return null;
  return (
    <section>
      <h3 className="mb-1 text-lg">{measuring.repairs.length ? "Another repair" : "When it is repaired"}</h3>
      {repair.error && <Notice tone="problem">{repair.error.message}</Notice>}
      <p className="mb-2 text-sm text-soft">
        What was measured until then speaks about the vehicle before the repair. The tests that failed become
        the list to verify.
      </p>
      <div className="mb-2 flex flex-wrap gap-x-4 text-sm">
        {named.map((suspect) => (
          <label key={suspect.unit} className="flex min-h-8 items-center gap-1.5 pointer-coarse:min-h-11">
            <input
              type="checkbox"
              checked={chosen.includes(suspect.unit)}
              onChange={(event) =>
                setUnits(
                  event.target.checked
                    ? [...chosen, suspect.unit]
                    : chosen.filter((unit) => unit !== suspect.unit),
                )
              }
            />
            {suspect.title}
          </label>
        ))}
      </div>
      <Button disabled={chosen.length === 0 || repair.isPending} onClick={() => setAsking(true)}>
        Record the repair
      </Button>
      <AskDialog
        open={asking}
        title="What was done?"
        choices={["Replaced", "Repaired", "Cleaned", "Known good part fitted to try"]}
        accept="Record"
        onClose={() => setAsking(false)}
        onAccept={(action) => {
          repair.mutate(action);
          setAsking(false);
        }}
      >
        {chosen.join(", ")}
      </AskDialog>
    </section>
  );
}
