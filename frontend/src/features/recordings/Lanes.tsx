import type { Lane } from "./calls";
import { GUTTER } from "./Strip";
import type { Span } from "./useView";

/** Commands and status words above the strips, on the same clock: a block for every position, said by its word. */
export function Lanes({
  lanes,
  span,
  end,
  width,
}: {
  lanes: Lane[];
  span: Span;
  end: number;
  width: number;
}) {
  const inside = Math.max(1, width - GUTTER.left - GUTTER.right);
  const x = (seconds: number) => (inside * (seconds - span[0])) / (span[1] - span[0]);
  return (
    <ul aria-label="Commands and states" className="mb-1">
      {lanes.map((lane) => (
        <li key={lane.name} className="mb-1" data-lane={lane.name}>
          <span className="block pl-2 text-sm">{lane.name}</span>
          <span
            className="relative block h-6 overflow-hidden"
            style={{ width: inside, marginLeft: GUTTER.left }}
          >
            {lane.changes.map(({ at_s: at, position: word }, index) => {
              const until = lane.changes[index + 1]?.at_s ?? end;
              if (until < span[0] || at > span[1]) return null;
              const from = Math.max(0, x(at));
              const to = Math.min(inside, x(until));
              const active = word !== lane.changes[0]?.position;
              return (
                <span
                  key={at}
                  className={`absolute top-0 h-6 overflow-hidden border-l border-ink px-1 text-xs leading-6 whitespace-nowrap ${active ? "bg-depth-3" : "bg-depth-1"}`}
                  style={{ left: from, width: Math.max(1, to - from) }}
                >
                  {word}
                </span>
              );
            })}
          </span>
        </li>
      ))}
    </ul>
  );
}
