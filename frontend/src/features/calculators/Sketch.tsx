import type { ReactNode } from "react";

const line = { fill: "none", stroke: "var(--ink)", strokeWidth: 1.8 } as const;
const box = { ...line, fill: "var(--paper-raised)" } as const;

function Resistor({ x, y, name }: { x: number; y: number; name: string }) {
  return (
    <g transform={`translate(${x} ${y})`}>
      <rect x={-7} y={-18} width={14} height={36} {...box} />
      <text x={12} y={5} fontSize={13} fill="var(--ink)">
        {name}
      </text>
    </g>
  );
}

function Label({ x, y, children }: { x: number; y: number; children: ReactNode }) {
  return (
    <text x={x} y={y} fontSize={13} fill="var(--ink)" textAnchor="middle">
      {children}
    </text>
  );
}

const DRAWN: Record<string, ReactNode> = {
  source: (
    <>
      <path d="M40 20V40M40 76V100H120V84M40 20H120V48" {...line} />
      <Resistor x={40} y={58} name="R" />
      <circle cx={120} cy={66} r={18} {...box} />
      <Label x={120} y={71}>
        I
      </Label>
      <Label x={84} y={14}>
        U₀ → U
      </Label>
    </>
  ),
  divider: (
    <>
      <path d="M50 10V24M50 60V84M50 120V136M50 72H110" {...line} />
      <Resistor x={50} y={42} name="R₁" />
      <Resistor x={50} y={102} name="R₂" />
      <circle cx={114} cy={72} r={4} {...box} />
      <Label x={130} y={77}>
        U
      </Label>
      <Label x={50} y={150}>
        0 V
      </Label>
    </>
  ),
  "pull-up": (
    <>
      <path d="M50 10V24M50 60V84M50 120V136M50 72H96" {...line} />
      <Resistor x={50} y={42} name="Rₚ" />
      <Resistor x={50} y={102} name="R" />
      <rect x={20} y={4} width={60} height={60} fill="none" stroke="var(--ink-soft)" strokeDasharray="5 4" />
      <Label x={120} y={77}>
        pin
      </Label>
    </>
  ),
  load: (
    <>
      <path d="M40 20V110H120V84M40 20H120V48" {...line} />
      <Resistor x={120} y={66} name="R" />
      <path d="M70 20l8 -5v10z" fill="var(--ink)" />
      <Label x={74} y={44}>
        I
      </Label>
      <Label x={22} y={70}>
        U
      </Label>
    </>
  ),
  coil: (
    <>
      <path d="M80 20V50M80 90V120" {...line} />
      <rect x={58} y={50} width={44} height={40} {...box} />
      <path d="M112 100V46a6 6 0 0 1 12 0v54a10 10 0 1 1 -12 0z" {...line} />
    </>
  ),
  ntc: (
    <>
      <path d="M70 16V46M70 94V124" {...line} />
      <rect x={60} y={46} width={20} height={48} {...box} />
      <path d="M44 98h10L96 44" {...line} />
      <Label x={36} y={76}>
        ϑ
      </Label>
    </>
  ),
  ratio: (
    <>
      <path d="M60 12V30M60 110V128M60 70H110" {...line} />
      <rect x={46} y={30} width={28} height={80} {...box} />
      <Label x={124} y={75}>
        U
      </Label>
      <Label x={24} y={28}>
        U_ref
      </Label>
      <Label x={26} y={124}>
        return
      </Label>
    </>
  ),
  pulse: (
    <>
      <path d="M10 100V40H50V100H110V40H150V100" {...line} />
      <path d="M10 76H150" stroke="var(--ink)" strokeDasharray="5 4" />
      <Label x={30} y={32}>
        D
      </Label>
      <Label x={80} y={70}>
        Ū
      </Label>
    </>
  ),
  parallel: (
    <>
      <path d="M40 20H120V40M80 20V40M40 20V40M40 76V110H120V76M80 76V110" {...line} />
      <Resistor x={40} y={58} name="R₁" />
      <Resistor x={80} y={58} name="R₂" />
      <Resistor x={120} y={58} name="…" />
    </>
  ),
  error: (
    <>
      <path d="M14 80H146" {...line} />
      <rect x={44} y={66} width={72} height={28} fill="var(--depth-2)" stroke="var(--ink-soft)" />
      <path d="M80 54V106" {...line} strokeWidth={3} />
      <Label x={80} y={44}>
        reading
      </Label>
      <Label x={80} y={124}>
        ± bound
      </Label>
    </>
  ),
  wire: (
    <>
      <path d="M14 60H146" stroke="var(--ink)" strokeWidth={9} />
      <path d="M14 90H146M14 84V96M146 84V96" {...line} />
      <Label x={80} y={108}>
        l
      </Label>
      <Label x={80} y={44}>
        A
      </Label>
    </>
  ),
  orifice: (
    <>
      <path d="M80 14V54M80 86V126" stroke="var(--ink)" strokeWidth={5} />
      <path d="M16 70H140m-12 -6l12 6l-12 6" {...line} />
      <Label x={44} y={52}>
        Δp
      </Label>
      <Label x={122} y={52}>
        Q
      </Label>
    </>
  ),
  hold: (
    <>
      <path d="M20 24V116H146" {...line} />
      <path d="M20 40C60 52 100 74 140 80" {...line} strokeWidth={2.4} />
      <Label x={10} y={36}>
        p
      </Label>
      <Label x={140} y={130}>
        t
      </Label>
    </>
  ),
  air: (
    <>
      <path d="M8 40H60V24H132V110H60V64H8" {...line} />
      <path d="M16 52H48m-10 -6l10 6l-10 6" {...line} />
      <path d="M68 76H124" {...line} strokeWidth={5} />
      <path d="M96 79V128" {...line} strokeWidth={3} />
      <Label x={30} y={34}>
        p, T
      </Label>
      <Label x={96} y={54}>
        V
      </Label>
      <Label x={112} y={144}>
        n
      </Label>
    </>
  ),
  trims: (
    <>
      <path d="M20 16V120M20 76H146" {...line} />
      <path d="M26 26C44 60 90 70 140 72" {...line} strokeWidth={2.4} />
      <path d="M26 74C80 70 116 56 140 30" {...line} strokeDasharray="5 4" />
      <Label x={10} y={20}>
        %
      </Label>
      <Label x={132} y={94}>
        flow
      </Label>
    </>
  ),
  units: (
    <>
      <path d="M20 60H140M20 60V50M50 60V54M80 60V50M110 60V54M140 60V50" {...line} />
      <path d="M20 90H140M20 90V100M44 90V96M68 90V96M92 90V96M116 90V96M140 90V100" {...line} />
    </>
  ),
};

/** A small drawing beside a sum, naming what its letters mean. */
export function Sketch({ name }: { name: string }) {
  return (
    <svg viewBox="0 0 160 156" className="block w-full" aria-hidden="true">
      {DRAWN[name]}
    </svg>
  );
}
