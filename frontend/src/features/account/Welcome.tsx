/** A picture and one sentence: what Sondar is, for those who have not signed in. */
export function Welcome() {
  const depths = [0, 1, 2, 3, 4];
  return (
    <div>
      <svg viewBox="0 0 420 240" className="w-full" aria-hidden="true">
        {depths.map((depth) => (
          <path
            key={depth}
            d={`M0 ${70 + depth * 36} C 110 ${58 + depth * 32}, 190 ${92 + depth * 40}, 420 ${64 + depth * 38} L420 240 L0 240 Z`}
            fill={`var(--depth-${depth + 1})`}
          />
        ))}
        <path d="M262 0v176" stroke="var(--ink)" strokeWidth="2" />
        {[28, 66, 104, 142].map((y, index) => (
          <path key={y} d={`M${256 - index} ${y}h${12 + 2 * index}`} stroke="var(--ink)" strokeWidth="3" />
        ))}
        <path d="M255 176h14l4 26h-22z" fill="var(--ink)" />
        {[
          [60, 52, "12"],
          [150, 60, "4"],
          [330, 58, "0"],
        ].map(([x, y, text]) => (
          <text
            key={`${x}`}
            x={x}
            y={y}
            className="figure"
            fontSize="20"
            fill="var(--ink)"
            textAnchor="middle"
          >
            {text}
            <tspan fontSize="13" dy="5">
              {text === "12" ? "3" : text === "4" ? "9" : "2"}
            </tspan>
          </text>
        ))}
      </svg>
      <p className="mt-3 text-2xl font-[650]">Sondar</p>
      <p className="max-w-md text-soft">
        What to measure next, what each reading means, and whether the wiring, the module or the component is
        at fault.
      </p>
    </div>
  );
}
