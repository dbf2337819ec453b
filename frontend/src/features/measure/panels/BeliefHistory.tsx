import { scaleLinear } from "d3-scale";
import { memo } from "react";
import type { Measuring } from "../../../api/client";
import { percent, shortName } from "../../../lib/format";

const WIDTH = 270;
const HEIGHT = 92;
const DASHES = ["", "7 3", "2 3", "10 3 2 3", "1 4", "12 5"];

/** Probability of the leading units after each reading; told apart by dashes and names, not by colour. */
export const BeliefHistory = memo(function BeliefHistory({
  history,
}: {
  history: Measuring["assessment"]["history"];
}) {
  const steps = history[0]?.shares.length ?? 0;
  if (steps < 2) return null;
  const x = scaleLinear([0, steps - 1], [4, WIDTH - 70]);
  const y = scaleLinear([0, 1], [HEIGHT - 14, 10]);
  const ends = spread(history.slice(0, 4).map((line) => y(line.shares[steps - 1] ?? 0)));
  return (
    <figure className="mt-1">
      <figcaption className="text-sm text-soft">Probability after each reading</figcaption>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="block w-full"
        role="img"
        aria-label={history
          .slice(0, 4)
          .map((line) => `${shortName(line.unit)} now ${percent(line.shares[steps - 1] ?? 0)}`)
          .join(", ")}
      >
        {[0, 0.5, 1].map((share) => (
          <line
            key={share}
            x1={4}
            x2={WIDTH - 70}
            y1={y(share)}
            y2={y(share)}
            stroke="var(--rule)"
            strokeWidth={1}
          />
        ))}
        {history.slice(0, 4).map((line, index) => (
          <g key={line.unit}>
            <polyline
              points={line.shares.map((share, step) => `${x(step)},${y(share)}`).join(" ")}
              fill="none"
              stroke="var(--ink)"
              strokeWidth={index === 0 ? 2.4 : 1.5}
              strokeDasharray={DASHES[index]}
            />
            <text x={WIDTH - 64} y={(ends[index] ?? 0) + 4} fontSize={11.5} fill="var(--ink)">
              {line.unit === "unknown" ? "not drawn" : shortName(line.unit).slice(0, 11)}
            </text>
          </g>
        ))}
        {Array.from({ length: steps }, (_, step) => (
          <text
            // biome-ignore lint/suspicious/noArrayIndexKey: a step is its position
            key={step}
            x={x(step)}
            y={HEIGHT - 2}
            textAnchor="middle"
            fontSize={10.5}
            fill="var(--ink-soft)"
          >
            {steps < 12 || step % 5 === 0 ? step : ""}
          </text>
        ))}
      </svg>
    </figure>
  );
});

/** Names at the line ends moved apart so that none covers another. */
function spread(wanted: number[]): number[] {
  const order = wanted.map((_, index) => index).sort((a, b) => (wanted[a] ?? 0) - (wanted[b] ?? 0));
  const placed = [...wanted];
  let last = -100;
  for (const index of order) {
    placed[index] = Math.max(wanted[index] ?? 0, last + 13);
    last = placed[index];
  }
  const over = Math.max(0, last - (HEIGHT - 14));
  return placed.map((value) => value - over);
}
