import { useQuery } from "@tanstack/react-query";
import { api, unwrap } from "../../api/client";
import type { Channel } from "./calls";
import type { Span } from "./useView";

const [WIDTH, HEIGHT] = [340, 250];
const [LEFT, BOTTOM, TOP, RIGHT] = [52, 38, 10, 12];
const TICKS = 4;

/** One channel drawn over the other, at the same moments: what belongs together, whichever moment it was. The last moment has a dot. */
export function OverEachOther(props: { recordingId: string; x: Channel; y: Channel; stretch: Span }) {
  const { recordingId, x, y, stretch } = props;
  const { data } = useQuery({
    queryKey: ["recording-pairs", recordingId, x.number, y.number, stretch],
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/recordings/{recording_id}/pairs", {
          params: {
            path: { recording_id: recordingId },
            query: { start_s: stretch[0], end_s: stretch[1], channel: x.number, other: y.number },
          },
        }),
      ),
  });
  if (!data) return null;
  if (data.t.length < 2)
    return <p className="text-sm text-soft">The two have no moment of this stretch in common.</p>;
  const across = scale(data.first, LEFT, WIDTH - RIGHT);
  const up = scale(data.second, HEIGHT - BOTTOM, TOP);
  const path = data.t.map(
    (_, n) => `${n === 0 ? "M" : "L"}${across.at(data.first[n] ?? 0)} ${up.at(data.second[n] ?? 0)}`,
  );
  const last = data.t.length - 1;
  const title = (channel: Channel) => `${channel.name}${channel.unit ? `, ${channel.unit}` : ""}`;
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
      className="my-3 block w-full max-w-md"
      role="img"
      aria-label={`${title(y)} over ${title(x)}, ${data.t.length} moments`}
    >
      {up.ticks.map((tick) => (
        <g key={`y${tick}`}>
          <line x1={LEFT} x2={WIDTH - RIGHT} y1={up.at(tick)} y2={up.at(tick)} stroke="var(--rule)" />
          <text x={LEFT - 5} y={up.at(tick) + 4} textAnchor="end" fontSize={11} fill="var(--ink-soft)">
            {short(tick)}
          </text>
        </g>
      ))}
      {across.ticks.map((tick) => (
        <g key={`x${tick}`}>
          <line
            y1={TOP}
            y2={HEIGHT - BOTTOM}
            x1={across.at(tick)}
            x2={across.at(tick)}
            stroke="var(--rule)"
          />
          <text
            x={across.at(tick)}
            y={HEIGHT - BOTTOM + 14}
            textAnchor="middle"
            fontSize={11}
            fill="var(--ink-soft)"
          >
            {short(tick)}
          </text>
        </g>
      ))}
      <path d={path.join("")} fill="none" stroke="var(--depth-4)" strokeWidth={1.4} strokeLinejoin="round" />
      <circle
        cx={across.at(data.first[last] ?? 0)}
        cy={up.at(data.second[last] ?? 0)}
        r={3.5}
        fill="var(--ink)"
      />
      <text x={(LEFT + WIDTH - RIGHT) / 2} y={HEIGHT - 6} textAnchor="middle" fontSize={12} fill="var(--ink)">
        {title(x)}
      </text>
      <text
        transform={`translate(12 ${(TOP + HEIGHT - BOTTOM) / 2}) rotate(-90)`}
        textAnchor="middle"
        fontSize={12}
        fill="var(--ink)"
      >
        {title(y)}
      </text>
    </svg>
  );
}

/** Figures on a line from one end to the other, with round ticks. */
function scale(figures: number[], from: number, to: number) {
  const least = figures.reduce((a, b) => Math.min(a, b));
  const most = figures.reduce((a, b) => Math.max(a, b));
  const width = most - least || Math.abs(most) || 1;
  const [low, high] = most > least ? [least, most] : [least - width / 2, least + width / 2];
  const rough = (high - low) / TICKS;
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = ([1, 2, 5, 10].find((one) => one * power >= rough) ?? 10) * power;
  const ticks: number[] = [];
  for (let tick = Math.ceil(low / step) * step; tick <= high + step * 1e-9; tick += step) ticks.push(tick);
  return { ticks, at: (value: number) => from + ((value - low) / (high - low)) * (to - from) };
}

function short(value: number): string {
  return String(Number(value.toPrecision(4)));
}
