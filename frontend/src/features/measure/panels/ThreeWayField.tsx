import { memo } from "react";
import type { Measuring } from "../../../api/client";
import { percent } from "../../../lib/format";

const CORNERS = {
  wiring: { x: 22, y: 168 },
  module: { x: 150, y: 18 },
  component: { x: 278, y: 168 },
} as const;
const CENTRE = { x: 150, y: 118 };

type Step = Measuring["assessment"]["track"][number];

/** Where a step stands: the corners pull by their share, doubt holds it in the middle. */
function place(step: Step): { x: number; y: number } {
  const rest = step.none + step.unknown + step.system + step.setting;
  let x = CENTRE.x * rest;
  let y = CENTRE.y * rest;
  for (const group of ["wiring", "module", "component"] as const) {
    x += CORNERS[group].x * step[group];
    y += CORNERS[group].y * step[group];
  }
  return { x, y };
}

/** Wiring, module, component at the corners; each reading is one step of the track. */
export const ThreeWayField = memo(function ThreeWayField({ track }: { track: Step[] }) {
  const path = track.map(place);
  const now = track[track.length - 1];
  const here = path[path.length - 1];
  if (!now || !here) return null;
  const words = `Probability now: wiring ${percent(now.wiring)}, module ${percent(now.module)}, component ${percent(now.component)}`;
  return (
    <svg viewBox="0 0 300 206" className="block w-full" role="img" aria-label={words}>
      <path d="M150 18L278 168H22Z" fill="var(--depth-1)" stroke="var(--rule)" strokeWidth={1.5} />
      {[0.5, 0.8].map((share) => (
        <g key={share} stroke="var(--depth-3)" strokeWidth={1} strokeDasharray="3 4">
          {(["wiring", "module", "component"] as const).map((corner) => {
            const others = (["wiring", "module", "component"] as const).filter((name) => name !== corner);
            const [a, b] = others.map((name) => ({
              x: CORNERS[corner].x * share + CORNERS[name].x * (1 - share),
              y: CORNERS[corner].y * share + CORNERS[name].y * (1 - share),
            })) as [{ x: number; y: number }, { x: number; y: number }];
            return <line key={corner} x1={a.x} y1={a.y} x2={b.x} y2={b.y} />;
          })}
        </g>
      ))}
      <polyline
        points={path.map((p) => `${p.x},${p.y}`).join(" ")}
        fill="none"
        stroke="var(--ink)"
        strokeWidth={1.6}
        strokeLinejoin="round"
      />
      {path.slice(0, -1).map((p, index) => (
        <circle
          // biome-ignore lint/suspicious/noArrayIndexKey: a step of the track is its position
          key={index}
          cx={p.x}
          cy={p.y}
          r={3}
          fill="var(--paper-raised)"
          stroke="var(--ink)"
          strokeWidth={1.4}
        />
      ))}
      <circle cx={here.x} cy={here.y} r={8} fill="var(--ink)" />
      <text x={here.x} y={here.y + 4} textAnchor="middle" fontSize={11} fontWeight={700} fill="var(--paper)">
        {track.length - 1}
      </text>
      <g fontSize={13} fontWeight={650} fill="var(--ink)">
        <text x={2} y={188}>
          Wiring
        </text>
        <text x={2} y={203} fontWeight={400}>
          {percent(now.wiring)}
        </text>
        <text x={166} y={16}>
          Module
          <tspan dx={8} fontWeight={400}>
            {percent(now.module)}
          </tspan>
        </text>
        <text x={298} y={188} textAnchor="end">
          Component
        </text>
        <text x={298} y={203} textAnchor="end" fontWeight={400}>
          {percent(now.component)}
        </text>
        {now.system + now.setting > 0.005 && (
          <text x={150} y={203} textAnchor="middle" fontWeight={400}>
            {now.system >= now.setting ? `system ${percent(now.system)}` : `setting ${percent(now.setting)}`}
          </text>
        )}
      </g>
    </svg>
  );
});
