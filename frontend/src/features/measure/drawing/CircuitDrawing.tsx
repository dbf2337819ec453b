import { select } from "d3-selection";
import { type ZoomBehavior, zoom, zoomIdentity } from "d3-zoom";
import { memo, type ReactNode, useEffect, useMemo, useRef, useState } from "react";
import type { Circuit, Measuring, TestIn } from "../../../api/client";
import { depthTint } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { latestAtPoints, spans, spill } from "./figures";
import { keepTabStop, moveOrPress } from "./keyboard";
import { ElementSymbol, GroundSymbol } from "./symbols";

const UNIT = 46;
const PITCH = 212;
const LEFT = 108;
const TOP = 34;

type Element = Circuit["drawing"]["elements"][number];

interface Props {
  circuit: Circuit;
  readings: Measuring["readings"];
  /** Probability that a drawn branch is at fault. */
  weights: Record<string, number>;
  /** The test in hand: its probes are placed, its connectors disconnected. */
  test: TestIn | null;
  /** Expected values to show at the points. */
  expected: Record<string, string> | null;
  onPoint: (ref: string) => void;
  onConnector: (connector: string) => void;
  /** Moves a control to its next position. */
  onControl: (control: string) => void;
  /** Stands beside the buttons below the drawing. */
  children?: ReactNode;
}

const MOST_ZOOM = 6;
const NARROW = "(max-width: 1023px)";

/**
 * The circuit from supply to ground. Points take the probes, connectors are disconnected and connected, readings stand where they
 * were taken. One tab stop: arrow keys move between what can be pressed, Space or Enter presses it.
 */
/** A title in the middle of a sentence; a designation such as TCM stays as it is. */
const inSentence = (title: string) => (title === title.toUpperCase() ? title : title.toLowerCase());

export const CircuitDrawing = memo(function CircuitDrawing(props: Props) {
  const { circuit, readings, weights, test, expected, onPoint, onConnector, onControl, children } = props;
  const { drawing } = circuit;
  const disconnected = useMemo(() => new Set(test?.setup.unplugged ?? []), [test]);
  const y = (depth: number) => TOP + depth * UNIT;
  const shown = latestAtPoints(readings, circuit.black_reference);
  const across = spans(readings, circuit, shown, y);
  const left = LEFT + spill(across, LEFT, PITCH);
  const x = (column: number) => left + column * PITCH;
  const width = left + (drawing.columns - 1) * PITCH + rightMargin(drawing.elements, drawing.columns - 1);
  const height = TOP + drawing.depth * UNIT + 40;
  const points = visiblePoints(circuit, disconnected);
  const view = useZoom();
  const [whole, setWhole] = useState(false);
  const upright = useNarrow();
  useEffect(() => keepTabStop(view.svg.current));
  return (
    <div>
      {/* biome-ignore lint/a11y/useSemanticElements: a fieldset cannot hold a drawing */}
      <svg
        ref={view.svg}
        viewBox={`0 0 ${width} ${height}`}
        className="block h-auto w-full"
        // Wide circuits scroll sideways rather than shrink until nobody can read them; on an upright screen they are zoomed.
        style={{ maxWidth: width * 1.05, minWidth: whole || upright ? 0 : width * 0.75 }}
        role="group"
        aria-label={`Circuit drawing of ${circuit.title}, from supply to ground`}
        onKeyDown={moveOrPress}
        onFocus={(event) => keepTabStop(event.currentTarget, event.target)}
      >
        <g transform={view.transform}>
          {drawing.regions.map((region) => (
            <g key={`${region.module}-${region.column}`}>
              <rect
                x={x(region.column) - 34}
                y={y(region.top) - 2}
                width={regionWidth(drawing.elements, region)}
                height={y(region.bottom) - y(region.top) + 4}
                fill="var(--buff)"
                stroke="var(--ink-soft)"
                strokeDasharray="5 4"
              />
              <text x={x(region.column) + 24} y={y(region.bottom) - 5} fontSize={11.5} fill="var(--ink-soft)">
                in {inSentence(region.title)}
              </text>
            </g>
          ))}
          {drawing.elements.map((element) => (
            <SuspectBand
              key={element.id}
              element={element}
              weight={weightOf(weights, element)}
              x={x(element.column)}
              y={y}
            />
          ))}
          {drawing.links.map((link) => (
            <g key={`${link.y}-${link.start}-${link.end}`}>
              <line
                data-link=""
                x1={x(link.start)}
                x2={x(link.end)}
                y1={y(link.y)}
                y2={y(link.y)}
                stroke="var(--ink)"
                strokeWidth={1.8}
              />
              <circle cx={x(link.start)} cy={y(link.y)} r={3.4} fill="var(--ink)" />
              <circle cx={x(link.end)} cy={y(link.y)} r={3.4} fill="var(--ink)" />
            </g>
          ))}
          {drawing.elements.map((element) => (
            <Line
              key={element.id}
              element={element}
              x={x(element.column)}
              y={y}
              disconnected={element.connector !== null && disconnected.has(element.connector)}
              position={
                element.control
                  ? (test?.setup.controls?.[element.control] ?? restOf(circuit, element.control))
                  : null
              }
              onConnector={onConnector}
              onControl={onControl}
            />
          ))}
          {drawing.marks.map((mark) =>
            mark.kind === "ground" ? (
              <g key={`g${mark.column}`} transform={`translate(${x(mark.column)} ${y(mark.y)})`}>
                <GroundSymbol />
              </g>
            ) : mark.kind === "battery" || mark.kind === "supply" ? (
              <text
                key={mark.ref}
                x={x(mark.column) + (isBelow(drawing.elements, mark) ? 24 : -30)}
                y={y(mark.y) + (isBelow(drawing.elements, mark) ? 9 : -14)}
                fontSize={isBelow(drawing.elements, mark) ? 11 : 12.5}
                fontWeight={650}
                fill="var(--ink)"
              >
                {mark.kind === "battery" ? "Battery +" : mark.label}
              </text>
            ) : null,
          )}
          {across.map((span) => (
            <g key={span.key} stroke="var(--ink-soft)" strokeWidth={1.2} fill="none">
              <path d={`M${x(span.column) - 14} ${y(span.top)}h-20V${y(span.bottom)}h20`} />
              <text
                x={x(span.column) - 39}
                y={span.at + 5}
                textAnchor="end"
                fontSize={15}
                className="figure"
                fill="var(--ink)"
                stroke="none"
              >
                {span.label}
              </text>
            </g>
          ))}
          {points.map((mark) => (
            <Point
              key={mark.ref}
              refName={mark.ref}
              label={mark.label}
              cx={x(mark.column)}
              cy={y(mark.y)}
              probe={test?.red === mark.ref ? "red" : test?.black === mark.ref ? "black" : null}
              reading={shown.get(mark.ref)}
              expected={expected?.[mark.ref]}
              onPoint={onPoint}
            />
          ))}
        </g>
      </svg>
      <div className="mt-1 flex flex-wrap items-center gap-1 px-2 text-sm">
        {(
          [
            ["−", "Smaller", () => view.by(1 / 1.4)],
            ["+", "Larger", () => view.by(1.4)],
            [
              "Fit",
              "Whole",
              () => {
                setWhole(!whole || view.transform !== "");
                view.fit();
              },
            ],
          ] as const
        ).map(([sign, title, act]) => (
          <Button key={sign} className="min-w-11 px-2" aria-label={`${title} drawing`} onClick={act}>
            {sign}
          </Button>
        ))}
        {children}
      </div>
    </div>
  );
});

/** True on a screen too narrow for columns. */
function useNarrow(): boolean {
  const [narrow, setNarrow] = useState(() => matchMedia(NARROW).matches);
  useEffect(() => {
    const query = matchMedia(NARROW);
    const onChange = () => setNarrow(query.matches);
    query.addEventListener("change", onChange);
    return () => query.removeEventListener("change", onChange);
  }, []);
  return narrow;
}

/** Pinch, drag and buttons; a wheel zooms only with the control key, so that the page still scrolls. */
function useZoom() {
  const svg = useRef<SVGSVGElement>(null);
  const behaviour = useRef<ZoomBehavior<SVGSVGElement, unknown> | null>(null);
  const [transform, setTransform] = useState("");
  useEffect(() => {
    if (!svg.current) return;
    const made = zoom<SVGSVGElement, unknown>()
      .scaleExtent([1, MOST_ZOOM])
      .filter((event) => {
        if (event.type === "wheel") return event.ctrlKey;
        if (event.type.startsWith("touch")) return event.touches.length > 1 || current(svg.current) > 1;
        return !event.button && current(svg.current) > 1;
      })
      .on("zoom", (event) => setTransform(event.transform.k === 1 ? "" : event.transform.toString()));
    const place = () => {
      const box = svg.current?.viewBox.baseVal;
      if (box) {
        const whole: [[number, number], [number, number]] = [
          [0, 0],
          [box.width, box.height],
        ];
        made.extent(whole).translateExtent(whole);
      }
    };
    place();
    behaviour.current = made;
    const chosen = select(svg.current).call(made).on("dblclick.zoom", null);
    return () => {
      chosen.on(".zoom", null);
    };
  }, []);
  return {
    svg,
    transform,
    by: (factor: number) => {
      if (svg.current && behaviour.current) behaviour.current.scaleBy(select(svg.current), factor);
    },
    fit: () => {
      if (svg.current && behaviour.current) behaviour.current.transform(select(svg.current), zoomIdentity);
    },
  };
}

function current(svg: SVGSVGElement | null): number {
  return (svg as unknown as { __zoom?: { k: number } } | null)?.__zoom?.k ?? 1;
}

/** The suspect stretch: wider and deeper with belief, so that it reads in grey as well. */
function SuspectBand(props: { element: Element; weight: number; x: number; y: (depth: number) => number }) {
  const { element, weight, x, y } = props;
  if (weight < 0.01) return null;
  const half = 5 + 17 * Math.sqrt(weight);
  return (
    <rect
      x={x - half}
      y={y(element.top) + 1}
      width={2 * half}
      height={y(element.bottom) - y(element.top) - 2}
      rx={half / 2}
      fill={depthTint(weight)}
      opacity={0.85}
    />
  );
}

function Line(props: {
  element: Element;
  x: number;
  y: (depth: number) => number;
  disconnected: boolean;
  /** Where the control that moves it stands. */
  position: string | null;
  onConnector: (connector: string) => void;
  onControl: (control: string) => void;
}) {
  const { element, x, y, disconnected, position } = props;
  const top = y(element.top);
  const bottom = y(element.bottom);
  const middle = (top + bottom) / 2;
  const gap = disconnected ? 9 : 0;
  const label = (
    <text x={x + (element.symbol === "contact" ? 18 : 24)} y={middle} fontSize={12.5} fill="var(--ink)">
      <tspan dy={element.detail && element.symbol !== "wire" ? "-0.15em" : "0.35em"} fontWeight={600}>
        {element.label}
      </tspan>
      {position !== null && element.control && element.label !== "" && (
        <tspan dx={7} fontWeight={650}>
          {position}
        </tspan>
      )}
      {element.symbol === "wire" ? (
        <tspan dx={6} fill="var(--ink-soft)" fontSize={11.5}>
          {element.detail}
        </tspan>
      ) : (
        element.detail && (
          <tspan x={x + 24} dy="1.15em" fill="var(--ink-soft)" fontSize={11.5}>
            {element.detail}
          </tspan>
        )
      )}
    </text>
  );
  const drawn = (
    <>
      <line x1={x} x2={x} y1={top} y2={middle - gap} stroke="var(--ink)" strokeWidth={1.8} />
      <line x1={x} x2={x} y1={middle + gap} y2={bottom} stroke="var(--ink)" strokeWidth={1.8} />
      {!disconnected && (
        <g
          transform={`translate(${x} ${middle})`}
          data-body={element.symbol === "wire" || element.symbol === "contact" ? undefined : element.id}
        >
          <ElementSymbol symbol={element.symbol} />
        </g>
      )}
      {disconnected && (
        <path
          d={`M${x - 9} ${middle - 9}h18M${x - 9} ${middle + 9}h18`}
          stroke="var(--ink)"
          strokeWidth={1.8}
        />
      )}
      {label}
    </>
  );
  if (element.connector === null && element.control && position !== null) {
    const control = element.control;
    return (
      // biome-ignore lint/a11y: a button cannot stand inside an SVG drawing; the drawing hears its keys
      <g
        role="button"
        tabIndex={-1}
        aria-label={`${element.label || element.part}: ${control} ${position}, next position`}
        onClick={() => props.onControl(control)}
        className="cursor-pointer"
      >
        <rect x={x - 26} y={middle - 20} width={52} height={40} fill="transparent" />
        {drawn}
      </g>
    );
  }
  if (element.connector === null) return <g>{drawn}</g>;
  const connector = element.connector;
  return (
    // biome-ignore lint/a11y: a button cannot stand inside an SVG drawing; the drawing hears its keys
    <g
      role="button"
      tabIndex={-1}
      aria-label={`${element.label || connector}: ${disconnected ? "disconnected, connect" : "connected, disconnect"}`}
      aria-pressed={disconnected}
      onClick={() => props.onConnector(connector)}
      className="cursor-pointer"
    >
      <rect x={x + 12} y={middle - 13} width={84} height={26} fill="transparent" />
      {drawn}
      {disconnected && (
        <text x={x + 18} y={middle + 17} fontSize={11} fontWeight={650} fill="var(--ink)">
          disconnected
        </text>
      )}
    </g>
  );
}

function Point(props: {
  refName: string;
  label: string;
  cx: number;
  cy: number;
  probe: "red" | "black" | null;
  reading: string | undefined;
  expected: string | undefined;
  onPoint: (ref: string) => void;
}) {
  const { refName, cx, cy, probe, reading, expected } = props;
  return (
    // biome-ignore lint/a11y: a button cannot stand inside an SVG drawing; the drawing hears its keys
    <g
      role="button"
      tabIndex={-1}
      aria-label={`${refName}: ${props.label}${probe ? `, ${probe} probe here` : ""}`}
      onClick={() => props.onPoint(refName)}
      className="cursor-pointer"
    >
      <circle cx={cx} cy={cy} r={15} fill="transparent" />
      <circle cx={cx} cy={cy} r={4.6} fill="var(--paper-raised)" stroke="var(--ink)" strokeWidth={1.8} />
      {reading && (
        <text
          x={cx - 12}
          y={probe ? cy + 17 : cy + 5}
          textAnchor="end"
          fontSize={16}
          className="figure"
          fill="var(--ink)"
        >
          {reading}
        </text>
      )}
      {expected && (
        <text
          x={cx - 12}
          y={cy + (reading || probe ? 19 : 5)}
          textAnchor="end"
          fontSize={13}
          fontStyle="italic"
          fill="var(--ink-soft)"
        >
          {expected.replace(/ V$/, "")}
        </text>
      )}
      {probe && (
        <g>
          <circle cx={cx} cy={cy} r={9} fill="none" stroke="var(--next)" strokeWidth={3} />
          <line x1={cx - 9} x2={cx - 34} y1={cy} y2={cy - 12} stroke="var(--next)" strokeWidth={3} />
          <text x={cx - 37} y={cy - 9} textAnchor="end" fontSize={13} fontWeight={700} fill="var(--next)">
            {probe}
          </text>
        </g>
      )}
    </g>
  );
}

function restOf(circuit: Circuit, control: string): string | null {
  return circuit.controls.find((item) => item.id === control)?.values[0] ?? null;
}

/** Points a probe can reach with these connectors disconnected; of two on one node the harness side is kept. */
function visiblePoints(circuit: Circuit, disconnected: Set<string>) {
  const reach = new Map(circuit.points.map((point) => [point.ref, point]));
  return circuit.drawing.marks.filter((mark) => {
    if (mark.kind !== "point") return false;
    const point = reach.get(mark.ref);
    return (
      point !== undefined &&
      (point.when === "any" || (point.connector !== null && disconnected.has(point.connector)))
    );
  });
}

/** True for a supply inside a module that begins where another part of its line ends: no room above it. */
function isBelow(elements: Element[], mark: Circuit["drawing"]["marks"][number]): boolean {
  return elements.some((item) => item.column === mark.column && Math.abs(item.bottom - mark.y) < 0.01);
}

/** Wide enough for the names inside, never into the next line. */
function regionWidth(elements: Element[], region: Circuit["drawing"]["regions"][number]): number {
  const inside = elements.filter(
    (item) =>
      item.column === region.column &&
      item.module === region.module &&
      item.top >= region.top &&
      item.bottom <= region.bottom,
  );
  const longest = Math.max(0, region.title.length + 3, ...inside.map((item) => item.detail.length));
  return Math.min(PITCH - 34, Math.max(152, 66 + longest * 5.7));
}

/** Room for the longest text beside the last column. */
function rightMargin(elements: Element[], column: number): number {
  const longest = Math.max(
    0,
    ...elements
      .filter((element) => element.column === column)
      .map((element) =>
        element.symbol === "wire"
          ? element.label.length * 8 + element.detail.length * 6.2
          : element.detail.length * 6.2,
      ),
  );
  return Math.max(120, 40 + longest);
}

function weightOf(weights: Record<string, number>, element: Element): number {
  return weights[element.id] ?? weights[element.part] ?? 0;
}
