import type { Measuring } from "../../../api/client";
import { when } from "../../../lib/format";
import { Notice } from "../../../ui/Notice";

/** What was said before, where it differs: by an earlier engine from the same readings, or before the evidence changed. */
export function ThenAndNow({ measuring }: { measuring: Measuring }) {
  const { said_before: before, diagnosis, assessment } = measuring;
  const recorded = diagnosis.conclusion;
  if (before)
    return (
      <Notice tone="note">
        Then ({when(before.at)}, engine {before.engine}): “{before.sentence}” Now, from the same readings: “
        {assessment.conclusion.sentence}” Check before anything is replaced on the strength of the earlier
        one.
      </Notice>
    );
  if (!recorded || recorded === assessment.conclusion.sentence || measuring.repairs.length > 0) return null;
  return (
    <Notice tone="note">
      When it was concluded, the record said: “{recorded}” Evidence has changed since.
    </Notice>
  );
}
