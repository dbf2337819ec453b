import { memo } from "react";
import type { Measuring } from "../../../api/client";
import { percent, shortName } from "../../../lib/format";
import type { Reading } from "../draft/draft";
import type { ReadingIn } from "../entry/useReadings";
import { ReadingGauge } from "./ReadingGauge";

interface Props {
  readings: Reading[];
  repairs: Measuring["repairs"];
  effects: Measuring["assessment"]["effects"];
  pending: ReadingIn[];
  waiting: boolean;
  onVoid: (reading: Reading) => void;
  onCorrect: (reading: Reading) => void;
  /** Sets the same test up once more. */
  onAgain: (reading: Reading) => void;
}

/** Readings, newest first, each with what it did to the suspects. */
export const ReadingsList = memo(function ReadingsList(props: Props) {
  const { readings, pending, waiting, onVoid, onCorrect, onAgain } = props;
  const inOrder = [...readings].reverse();
  /** The first reading under each repair, newest first. */
  const repairedAfter = (reading: Reading, newer: Reading | undefined) =>
    props.repairs.filter((repair) => repair.seq > reading.seq && repair.seq < (newer?.seq ?? Infinity));
  const effects = new Map(props.effects.map((effect) => [effect.reading, effect]));
  return (
    <ol className="border-t border-rule" aria-label="Readings, newest first">
      {[...pending].reverse().map((reading) => (
        <li key={reading.client_key} className="border-b border-rule py-2">
          <div className="flex items-baseline gap-3">
            <span className="figure w-24 text-xl">{reading.entry}</span>
            <span className="text-sm">
              {reading.red}
              <span className="ml-2 text-soft">
                {waiting ? "kept here, the server does not answer" : "sending …"}
              </span>
            </span>
          </div>
        </li>
      ))}
      {inOrder.map((reading, index) => {
        const repairs = repairedAfter(reading, inOrder[index - 1]);
        const effect = effects.get(reading.id);
        const voided = reading.voided_because !== null;
        return (
          <li
            key={reading.id}
            className="border-b border-rule py-2"
            data-reading={reading.id}
            data-voided={voided}
          >
            {repairs.map((repair) => (
              <p key={repair.id} className="-mt-2 mb-2 border-b-2 border-ink py-1 text-sm">
                <strong className="font-[650]">{repair.action}:</strong> {repair.titles.join(", ")}. What
                follows was measured before it.
              </p>
            ))}
            <div className="flex items-start gap-3">
              <span
                className={`figure w-24 shrink-0 text-xl leading-6 ${voided ? "line-through opacity-60" : ""}`}
              >
                {reading.label}
              </span>
              <div className="min-w-0 flex-1 text-sm leading-snug">
                <div>
                  <strong className="font-[650]">{reading.red}</strong>
                  <span className="text-soft"> to {reading.black}, </span>
                  {reading.setup_text}
                </div>
                {reading.note && <div>“{reading.note}”</div>}
                {voided ? (
                  <div className="text-soft">Voided: {reading.voided_because}</div>
                ) : (
                  effect && (
                    <>
                      {effect.gauge && <ReadingGauge gauge={effect.gauge} within={effect.within_expected} />}
                      <div>
                        {effect.within_expected
                          ? "Within expected range"
                          : `Outside expected range, which is ${effect.expected}`}
                      </div>
                      {effect.note && <div className="font-[600]">{effect.note}</div>}
                      <div className="text-soft">{movements(effect)}</div>
                    </>
                  )
                )}
              </div>
              {!voided && (
                <span className="flex w-20 shrink-0 flex-col items-end">
                  {(
                    [
                      ["Again", "Measure again", onAgain],
                      ["Correct", "Correct", onCorrect],
                      ["Void", "Void", onVoid],
                    ] as const
                  ).map(([word, title, act]) => (
                    <button
                      key={word}
                      type="button"
                      className="min-h-8 px-1 text-sm text-soft underline underline-offset-4 pointer-coarse:min-h-11"
                      onClick={() => act(reading)}
                      aria-label={`${title} ${reading.label} at ${reading.red}`}
                    >
                      {word}
                    </button>
                  ))}
                </span>
              )}
            </div>
          </li>
        );
      })}
    </ol>
  );
});

function movements(effect: Measuring["assessment"]["effects"][number]): string {
  const parts = effect.moved
    .slice(0, 3)
    .map((move) => `${shortName(move.unit)} ${percent(move.before)} → ${percent(move.after)}`);
  if (effect.cleared.length) parts.push(`cleared ${effect.cleared.map(shortName).join(", ")}`);
  return parts.join("; ") || "Changed little.";
}
