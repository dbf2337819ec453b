import { Notice } from "../../../ui/Notice";
import type { ForeseenResult } from "../entry/foreseen";

/** Entries wait for the server: what was worked out beforehand for them, or that nothing was. */
export function WithoutConnection({
  waiting,
  foreseen,
}: {
  waiting: number;
  foreseen: ForeseenResult | null;
}) {
  const kept = waiting === 1 ? "One reading waits here" : `${waiting} readings wait here`;
  return (
    <div data-testid="without-connection">
      <Notice tone="note">
        {foreseen ? (
          <>
            {kept} to be sent. What follows was worked out before the connection was lost, for a result of{" "}
            <strong className="figure">{foreseen.label}</strong>. {foreseen.sentence}
          </>
        ) : (
          <>
            {kept} to be sent, and what follows was not worked out beforehand. Go on with a test of your own:
            readings are kept in order and judged when the server is back.
          </>
        )}
      </Notice>
    </div>
  );
}
