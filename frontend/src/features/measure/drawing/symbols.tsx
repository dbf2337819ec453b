/** Circuit symbols after IEC 60617, drawn around (0, 0) on a vertical line, 34 units high unless said otherwise. */

const stroke = { fill: "none", stroke: "var(--ink)", strokeWidth: 1.8 } as const;
const body = { ...stroke, fill: "var(--paper-raised)" } as const;

/** Half height that each symbol covers on its line. */
export const HALF: Record<string, number> = { wire: 0, contact: 7, joint: 0, ground: 0 };

/** The symbol of an element; `live` closes a switch or contact. */
export function ElementSymbol({ symbol }: { symbol: string }) {
  switch (symbol) {
    case "fuse":
      return (
        <>
          <rect x={-6} y={-16} width={12} height={32} {...body} />
          <line x1={0} y1={-16} x2={0} y2={16} {...stroke} />
        </>
      );
    case "coil":
      return (
        <>
          <rect x={-15} y={-10} width={30} height={20} {...body} />
          <line x1={0} y1={-17} x2={0} y2={-10} {...stroke} />
          <line x1={0} y1={10} x2={0} y2={17} {...stroke} />
        </>
      );
    case "solenoid":
      return (
        <>
          <rect x={-15} y={-10} width={30} height={20} {...body} />
          <line x1={-15} y1={10} x2={15} y2={-10} {...stroke} />
          <line x1={0} y1={-17} x2={0} y2={-10} {...stroke} />
          <line x1={0} y1={10} x2={0} y2={17} {...stroke} />
        </>
      );
    case "relay-contact":
    case "switch":
      return (
        <>
          <rect x={-16} y={-16} width={24} height={32} fill="var(--paper)" stroke="none" />
          <line x1={0} y1={-17} x2={0} y2={-11} {...stroke} />
          <line x1={-12} y1={-11} x2={0} y2={11} {...stroke} />
          <line x1={0} y1={11} x2={0} y2={17} {...stroke} />
          <circle cx={0} cy={-11} r={2} fill="var(--ink)" />
        </>
      );
    case "relay-break":
      return (
        <>
          <rect x={-4} y={-16} width={20} height={32} fill="var(--paper)" stroke="none" />
          <line x1={0} y1={-17} x2={0} y2={-10} {...stroke} />
          <line x1={0} y1={-10} x2={10} y2={-10} {...stroke} />
          <line x1={8} y1={-13} x2={0} y2={11} {...stroke} />
          <line x1={0} y1={11} x2={0} y2={17} {...stroke} />
        </>
      );
    case "driver":
    case "low_side_driver":
    case "high_side_driver":
      return (
        <>
          <rect x={-13} y={-16} width={26} height={32} {...body} />
          <line x1={0} y1={-16} x2={0} y2={-8} {...stroke} />
          <line x1={-8} y1={-8} x2={0} y2={8} {...stroke} />
          <line x1={0} y1={8} x2={0} y2={16} {...stroke} />
          <path d="M-24 0h11m-5-4l5 4l-5 4" {...stroke} />
        </>
      );
    case "motor":
      return (
        <>
          <circle r={16} {...body} />
          <text textAnchor="middle" dy="5" fontSize={14} fontWeight={650} fill="var(--ink)">
            M
          </text>
        </>
      );
    case "lamp":
      return (
        <>
          <circle r={15} {...body} />
          <path d="M-10.6 -10.6L10.6 10.6M10.6 -10.6L-10.6 10.6" {...stroke} />
        </>
      );
    case "ntc":
      return (
        <>
          <rect x={-7} y={-16} width={14} height={32} {...body} />
          <path d="M-18 16h5L14 -14" {...stroke} />
          <text x={-25} y={4} fontSize={12} fill="var(--ink)">
            ϑ
          </text>
        </>
      );
    case "resistor":
    case "pull-up":
    case "pull-down":
      return <rect x={-7} y={-16} width={14} height={32} {...body} />;
    case "contact":
      // Male pin into female socket.
      return (
        <>
          <path d="M-6 -3A6 6 0 0 0 6 -3" {...stroke} />
          <line x1={0} y1={3} x2={0} y2={7} {...stroke} strokeWidth={3.4} />
        </>
      );
    default:
      return null;
  }
}

/** Ground symbol hanging below (0, 0). */
export function GroundSymbol() {
  return <path d="M0 0V6M-11 6H11M-7 11H7M-3 16H3" {...stroke} />;
}
