import type { Measuring } from "../../../api/client";
import { depthTint, groupName, percent } from "../../../lib/format";

interface Props {
  suspects: Measuring["assessment"]["suspects"];
  /** The unit whose expected values are shown on the drawing. */
  overlay: string | null;
  onOverlay: (unit: string | null) => void;
}

/** Replaceable units by probability; depth and length of the bar say the same. A tap shows its expected values on the drawing. */
export function Suspects({ suspects, overlay, onOverlay }: Props) {
  const shown = suspects.slice(0, 7);
  const rest = suspects.length - shown.length;
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
            className={`w-full py-1.5 text-left ${overlay === suspect.unit ? "bg-depth-1" : ""}`}
            aria-pressed={overlay === suspect.unit}
            disabled={suspect.unit === "unknown"}
            onClick={() => onOverlay(overlay === suspect.unit ? null : suspect.unit)}
          >
            <span className="flex items-baseline justify-between gap-2 leading-tight">
              <span className="font-[600]">{suspect.title}</span>
              <span className="figure text-lg">{percent(suspect.probability)}</span>
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
              {overlay === suspect.unit && <span className="text-ink"> Expected values shown.</span>}
            </span>
          </button>
        </li>
      ))}
      {rest > 0 && <li className="py-1.5 text-[13px] text-soft">and {rest} less likely</li>}
    </ol>
  );
}
