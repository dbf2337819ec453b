import { scaleLinear } from "d3-scale";
import type { Schema } from "../../../api/client";

type Gauge = NonNullable<Schema["ReadingEffect"]["gauge"]>;

const WIDTH = 132;

/** Expected against measured: the band a healthy circuit shows, the figure with what the meter leaves open. */
export function ReadingGauge({ gauge, within }: { gauge: Gauge; within: boolean }) {
  const spread = Math.max(gauge.high - gauge.low, 2 * gauge.doubt, 1e-6);
  const x = scaleLinear()
    .domain([
      Math.min(gauge.low, gauge.value - gauge.doubt) - 0.4 * spread,
      Math.max(gauge.high, gauge.value + gauge.doubt) + 0.4 * spread,
    ])
    .range([4, WIDTH - 4]);
  return (
    <svg
      width={WIDTH}
      height={20}
      className="mt-0.5 block"
      role="img"
      aria-label={within ? "within expected range" : "outside expected range"}
    >
      <line x1={0} x2={WIDTH} y1={10} y2={10} stroke="var(--rule)" strokeWidth={1} />
      <rect
        x={x(gauge.low)}
        y={4}
        width={Math.max(3, x(gauge.high) - x(gauge.low))}
        height={12}
        fill="var(--depth-2)"
        stroke="var(--ink-soft)"
        strokeWidth={1}
      />
      <line
        x1={x(gauge.value - gauge.doubt)}
        x2={x(gauge.value + gauge.doubt)}
        y1={10}
        y2={10}
        stroke="var(--ink)"
        strokeWidth={2}
      />
      {within ? (
        <circle cx={x(gauge.value)} cy={10} r={4} fill="var(--ink)" />
      ) : (
        <path d={`M${x(gauge.value) - 4} 6l8 8m0 -8l-8 8`} stroke="var(--ink)" strokeWidth={2.4} />
      )}
    </svg>
  );
}
