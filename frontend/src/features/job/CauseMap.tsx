import type { JobDetail, Triage } from "../../api/client";
import { depthTint, percent } from "../../lib/format";

const ROW = 34;
const WIDTH = 640;
const LEFT = 210;
const RIGHT = 400;

/**
 * Which cause explains which code: codes and symptoms on the left, what could be wrong on the right, a line where one makes the
 * other. A hollow mark is a code that this cause would have set and that is not there.
 */
export function CauseMap({ triage, detail }: { triage: Triage; detail: JobDetail }) {
  const causes = triage.candidates.slice(0, 4);
  const titles = new Map(detail.codes.map((code) => [code.code, code.title]));
  const symptomTitles = new Map(detail.symptoms.map((symptom) => [symptom.key, symptom.title]));
  const present = [...new Set(detail.codes.map((code) => code.code))];
  const shown = [...new Set(causes.flatMap((cause) => cause.shows))];
  const silent = [...new Set(causes.flatMap((cause) => cause.silences))];
  const missing = [
    ...new Set(causes.slice(0, 3).flatMap((cause) => cause.should_have_set.map((link) => link.code))),
  ].slice(0, 4);
  const left = [
    ...present.map((code) => ({ key: code, text: code, more: titles.get(code) ?? "", there: true })),
    ...shown.map((key) => ({ key, text: symptomTitles.get(key) ?? key, more: "", there: true })),
    ...silent.map((key) => ({ key: `silent-${key}`, text: `${key} does not answer`, more: "", there: true })),
    ...missing.map((code) => ({ key: code, text: `${code} is not there`, more: "", there: false })),
  ];
  const height = Math.max(left.length, causes.length * 1.6, 2) * ROW + 12;
  const leftY = (index: number) => (height / Math.max(left.length, 1)) * (index + 0.5);
  const rightY = (index: number) => (height / Math.max(causes.length, 1)) * (index + 0.5);
  const at = new Map(left.map((item, index) => [item.key, leftY(index)]));
  return (
    <svg
      viewBox={`0 0 ${WIDTH} ${height}`}
      className="w-full max-w-3xl"
      role="img"
      aria-label={`${triage.sentence} ${causes.map((cause) => `${cause.title}: ${cause.reason}`).join(". ")}`}
    >
      {causes.flatMap((cause, index) => {
        const links = [
          ...cause.explains.map((link) => ({ key: link.code, share: link.share, follows: link.follows })),
          ...cause.shows.map((key) => ({ key, share: 1, follows: false })),
          ...cause.silences.map((key) => ({ key: `silent-${key}`, share: 1, follows: false })),
        ];
        return links.map((link) => {
          const y = at.get(link.key);
          if (y === undefined) return null;
          const target = rightY(index);
          return (
            <path
              key={`${cause.id}-${link.key}`}
              d={`M${LEFT} ${y} C ${LEFT + 90} ${y}, ${RIGHT - 90} ${target}, ${RIGHT} ${target}`}
              fill="none"
              stroke={depthTint(cause.probability)}
              strokeWidth={1.5 + 4 * cause.probability * link.share}
              strokeDasharray={link.follows ? "5 4" : undefined}
            />
          );
        });
      })}
      {causes.flatMap((cause, index) =>
        cause.should_have_set.map((link) => {
          const y = at.get(link.code);
          if (y === undefined) return null;
          return (
            <path
              key={`${cause.id}-not-${link.code}`}
              d={`M${LEFT} ${y} C ${LEFT + 90} ${y}, ${RIGHT - 90} ${rightY(index)}, ${RIGHT} ${rightY(index)}`}
              fill="none"
              stroke="var(--ink-soft)"
              strokeWidth="1"
              strokeDasharray="1 5"
              strokeLinecap="round"
            />
          );
        }),
      )}
      {left.map((item, index) => (
        <g key={item.key}>
          <circle
            cx={LEFT}
            cy={leftY(index)}
            r="5"
            fill={item.there ? "var(--ink)" : "var(--paper)"}
            stroke="var(--ink)"
            strokeWidth="1.6"
          />
          <text
            x={LEFT - 12}
            y={leftY(index) + (item.more ? -1 : 5)}
            textAnchor="end"
            fontSize="14"
            className="figure"
            fill="var(--ink)"
          >
            {short(item.text, 30)}
          </text>
          {item.more && (
            <text x={LEFT - 12} y={leftY(index) + 12} textAnchor="end" fontSize="11" fill="var(--ink-soft)">
              {short(item.more, 36)}
            </text>
          )}
        </g>
      ))}
      {causes.map((cause, index) => (
        <g key={cause.id}>
          <rect
            x={RIGHT}
            y={rightY(index) - 14}
            width="10"
            height="28"
            fill={depthTint(cause.probability)}
            stroke="var(--ink)"
            strokeWidth={index === 0 ? 2 : 1}
          />
          <text
            x={RIGHT + 18}
            y={rightY(index) - 1}
            fontSize="14"
            fontWeight={index === 0 ? 700 : 500}
            fill="var(--ink)"
          >
            {short(cause.title, 28)}
          </text>
          <text x={RIGHT + 18} y={rightY(index) + 13} fontSize="11" fill="var(--ink-soft)">
            {percent(cause.probability)}
            {cause.shared ? `, shared by ${cause.circuits.length} circuits` : ", one circuit"}
          </text>
        </g>
      ))}
    </svg>
  );
}

function short(text: string, most: number): string {
  return text.length > most ? `${text.slice(0, most - 1)}…` : text;
}
