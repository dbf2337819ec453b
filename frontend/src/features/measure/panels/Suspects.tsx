import type { Bench } from "../../api/client";
import { depthTint, groupName, percent } from "../../lib/format";

interface Props {
  bench: Situation;
  /** The unit whose predicted values lie over the drawing. */
  ghost: string | null;
  onGhost: (unit: string | null) => void;
}

/** Replaceable units in order of belief; depth and length of the bar say the same. A tap lays its predicted values over the drawing. */
export function Suspects({ bench, ghost, onGhost }: Props) {
  const shown = bench.assessment.suspects.slice(0, 7);
  const rest = bench.assessment.suspects.length - shown.length;
  return (
    <ol className="border-t border-rule" aria-label="Suspects, most likely first">
      {shown.map((suspect) => (
        <li
          key={suspect.unit}
          className="border-b border-rule"
          data-unit={suspect.unit}
          data-probability={suspect.probability}
        >
          <button
            type="button"
            className={`w-full py-1.5 text-left ${ghost === suspect.unit ? "bg-depth-1" : ""}`}
            aria-pressed={ghost === suspect.unit}
            disabled={suspect.unit === "unknown"}
            onClick={() => onGhost(ghost === suspect.unit ? null : suspect.unit)}
          >
            <span className="flex items-baseline justify-between gap-2 leading-tight">
              <span className="font-[600]">{suspect.title}</span>
              <span className="sounding text-lg">{percent(suspect.probability)}</span>
            </span>
            <span className="my-0.5 block h-2.5 border border-rule">
              <span
                className="block h-full"
                style={{
                  width: `${Math.max(1, suspect.probability * 100)}%`,
                  background: depthTint(suspect.probability),
                }}
              />
            </span>
            <span className="block text-[13px] leading-tight text-soft">
              {suspect.group !== suspect.unit && groupName(suspect.group)}
              {suspect.place && `, ${suspect.place}`}
              {ghost === suspect.unit && <span className="text-ink"> On the drawing.</span>}
            </span>
          </button>
        </li>
      ))}
      {rest > 0 && <li className="py-1.5 text-[13px] text-soft">and {rest} less likely</li>}
    </ol>
  );
}
