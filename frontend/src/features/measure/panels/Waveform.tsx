import { useQuery } from "@tanstack/react-query";
import { scaleLinear } from "d3-scale";
import type { TestIn } from "../../../api/client";
import { waveformQuery } from "../../../api/queries";

const WIDTH = 520;
const HEIGHT = 112;

type Corner = readonly [ms: number, volts: number];

function corners(line: number[][]): Corner[] {
  return line.map((corner) => [corner[0] ?? 0, corner[1] ?? 0] as const);
}

/** What an oscilloscope would draw here: healthy as a band, the leading suspect as a line. Nothing where nothing pulses. */
export function Waveform({
  diagnosisId,
  test,
  readings,
}: {
  diagnosisId: string;
  test: TestIn | null;
  readings: number;
}) {
  const { data } = useQuery(waveformQuery(diagnosisId, test, readings));
  if (!data?.frequency_hz) return null;
  const [healthy, suspect] = [corners(data.healthy), corners(data.suspect)];
  const all = [...healthy, ...suspect];
  const end = Math.max(...all.map(([ms]) => ms));
  const top = Math.max(1, ...all.map(([, volts]) => volts));
  const bottom = Math.min(0, ...all.map(([, volts]) => volts));
  const x = scaleLinear([0, end], [44, WIDTH - 8]);
  const y = scaleLinear([bottom, top], [HEIGHT - 22, 10]);
  const points = (line: Corner[]) => line.map(([ms, volts]) => `${x(ms)},${y(volts)}`).join(" ");
  return (
    <figure>
      <figcaption className="text-sm text-soft">
        On an oscilloscope, {data.frequency_hz.toPrecision(3)} Hz: healthy as a broad line,{" "}
        {data.suspect_title} dashed
      </figcaption>
      <svg
        viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
        className="block w-full"
        role="img"
        aria-label={`Healthy between ${bottom.toFixed(1)} and ${top.toFixed(1)} V`}
      >
        {[bottom, top].map((volts) => (
          <g key={volts}>
            <line x1={44} x2={WIDTH - 8} y1={y(volts)} y2={y(volts)} stroke="var(--rule)" />
            <text x={38} y={y(volts) + 4} textAnchor="end" fontSize={12} fill="var(--ink)">
              {volts.toFixed(1)} V
            </text>
          </g>
        ))}
        <polyline
          points={points(healthy)}
          fill="none"
          stroke="var(--depth-3)"
          strokeWidth={7}
          strokeLinejoin="round"
        />
        <polyline
          points={points(suspect)}
          fill="none"
          stroke="var(--ink)"
          strokeWidth={1.8}
          strokeDasharray="6 3"
        />
        <text x={WIDTH - 8} y={HEIGHT - 4} textAnchor="end" fontSize={12} fill="var(--ink)">
          {end.toFixed(end < 10 ? 1 : 0)} ms
        </text>
      </svg>
    </figure>
  );
}
