import type { Bench } from "../../api/client";
import { depthTint, groupName, percent } from "../../lib/format";

/** Replaceable units in order of belief; depth and length of the bar say the same. */
export function Suspects({ bench }: { bench: Bench }) {
  const shown = bench.assessment.suspects.slice(0, 7);
  const rest = bench.assessment.suspects.length - shown.length;
  return (
    <ol className="border-t border-rule" aria-label="Suspects, most likely first">
      {shown.map((suspect) => (
        <li
          key={suspect.unit}
          className="border-b border-rule py-1.5"
          data-unit={suspect.unit}
          data-probability={suspect.probability}
        >
          <div className="flex items-baseline justify-between gap-2 leading-tight">
            <span className="font-[600]">{suspect.title}</span>
            <span className="sounding text-lg">{percent(suspect.probability)}</span>
          </div>
          <div className="my-0.5 h-2.5 border border-rule">
            <div
              className="h-full"
              style={{
                width: `${Math.max(1, suspect.probability * 100)}%`,
                background: depthTint(suspect.probability),
              }}
            />
          </div>
          <div className="text-[13px] leading-tight text-soft">
            {suspect.group !== suspect.unit && groupName(suspect.group)}
            {suspect.place && `, ${suspect.place}`}
          </div>
        </li>
      ))}
      {rest > 0 && <li className="py-1.5 text-[13px] text-soft">and {rest} less likely</li>}
    </ol>
  );
}
