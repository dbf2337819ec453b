import { useEffect, useRef } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import type { Line } from "./calls";
import type { Span } from "./useView";

/** Left and right of the figures, shared with the lanes above so that they stand on one clock. */
export const GUTTER = { left: 64, right: 12 } as const;

interface Shown {
  span: Span;
  a: number | null;
  b: number | null;
  marks: readonly number[];
  lit: Span | null;
}

/** One channel over time: least and greatest of every column, with cursors, marks and the stretch that a feature was read from. */
export function Strip(props: {
  name: string;
  unit: string;
  line: Line | undefined;
  other?: Line | undefined;
  shown: Shown;
  height: number;
  width: number;
  times: boolean;
  theme: string;
  onZoom: (span: Span) => void;
  onPlace: (at: number) => void;
  onWheel: (factor: number, around: number) => void;
}) {
  const host = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const now = useRef(props);
  now.current = props;
  // biome-ignore lint/correctness/useExhaustiveDependencies: a plot is made anew for another size, theme or unit only
  useEffect(() => {
    if (!host.current) return;
    const made = new uPlot(
      options(now, props.width, props.height),
      data(props.line, props.other),
      host.current,
    );
    plot.current = made;
    return () => {
      made.destroy();
      plot.current = null;
    };
  }, [props.theme, props.times, props.unit, props.other === undefined]);
  useEffect(() => {
    plot.current?.setSize({ width: props.width, height: props.height });
  }, [props.width, props.height]);
  useEffect(() => {
    const made = plot.current;
    if (!made) return;
    made.batch(() => {
      made.setData(data(props.line, props.other), false);
      made.setScale("x", { min: props.shown.span[0], max: props.shown.span[1] });
    });
  }, [props.line, props.other, props.shown.span]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is shown is read while it is painted
  useEffect(() => plot.current?.redraw(false), [props.shown]);
  return <div ref={host} role="img" aria-label={`${props.name} over time`} data-strip={props.name} />;
}

type Current = { readonly current: Parameters<typeof Strip>[0] };

function data(line: Line | undefined, other: Line | undefined): uPlot.AlignedData {
  const own: uPlot.AlignedData = line ? [line.t, line.least, line.greatest] : [[], [], []];
  if (!other) return own;
  const theirs: uPlot.AlignedData = [other.t, other.least, other.greatest];
  return uPlot.join([own, theirs]);
}

function colour(name: string): string {
  return getComputedStyle(document.documentElement).getPropertyValue(name).trim();
}

function options(now: Current, width: number, height: number): uPlot.Options {
  const { times, other } = now.current;
  const ink = colour("--ink");
  const soft = colour("--ink-soft");
  const rule = colour("--rule");
  const deep = colour("--depth-5");
  const font = "12px Archivo Variable, sans-serif";
  const axis = { stroke: soft, font, grid: { stroke: rule, width: 1 }, ticks: { stroke: rule, size: 4 } };
  const drawn = (stroke: string, dash?: number[]): uPlot.Series => ({
    stroke,
    width: 1.5,
    spanGaps: true,
    points: { show: (u) => (u.data[0]?.length ?? 0) < 60, size: 4 },
    ...(dash ? { dash } : {}),
  });
  return {
    width,
    height,
    padding: [8, GUTTER.right, times ? 0 : 8, 0],
    legend: { show: false },
    scales: { x: { time: false, auto: false }, y: { range: (_u, low, high) => padded(low, high) } },
    axes: [
      {
        ...axis,
        size: times ? 28 : 0,
        ticks: { ...axis.ticks, show: times },
        values: (_u, ticks) => ticks.map((tick) => (times ? `${+tick.toFixed(6)} s` : "")),
      },
      { ...axis, size: GUTTER.left, gap: 4 },
    ],
    series: [{}, drawn(ink), drawn(ink), ...(other ? [drawn(deep, [6, 3]), drawn(deep, [6, 3])] : [])],
    bands: [
      { series: [2, 1], fill: colour("--depth-2") },
      ...(other ? [{ series: [4, 3] as [number, number], fill: colour("--depth-1") }] : []),
    ],
    cursor: {
      sync: { key: "recording" },
      drag: { x: true, y: false, setScale: false, dist: 6 },
      points: { show: false },
      y: false,
    },
    hooks: {
      setSelect: [
        (u) => {
          if (u.select.width < 6) return;
          const from = u.posToVal(u.select.left, "x");
          const to = u.posToVal(u.select.left + u.select.width, "x");
          u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
          now.current.onZoom([from, to]);
        },
      ],
      drawClear: [(u) => lit(u, now.current.shown.lit)],
      draw: [(u) => lines(u, now.current.shown)],
      ready: [
        (u) => {
          u.over.addEventListener("click", (event) => {
            if (event.detail === 1) now.current.onPlace(u.posToVal(event.offsetX, "x"));
          });
          u.over.addEventListener(
            "wheel",
            (event) => {
              event.preventDefault();
              now.current.onWheel(event.deltaY > 0 ? 1.25 : 0.8, u.posToVal(event.offsetX, "x"));
            },
            { passive: false },
          );
        },
      ],
    },
  };
}

/** Least height of a strip as a share of its figures: the last digit of a steady one does not fill it. */
const LEAST_SHARE = 0.02;

/** A range with air above and below; a line that never moves stands in the middle. */
function padded(low: number, high: number): [number, number] {
  if (low === null || high === null) return [0, 1];
  const least = LEAST_SHARE * Math.max(Math.abs(low), Math.abs(high));
  const air =
    high > low
      ? Math.max(0.08 * (high - low), 0.5 * (least - (high - low)))
      : Math.max(0.05 * Math.abs(high), 0.5);
  return [low - air, high + air];
}

function lit(u: uPlot, span: Span | null): void {
  if (!span) return;
  const from = u.valToPos(span[0], "x", true);
  const to = u.valToPos(span[1], "x", true);
  u.ctx.save();
  u.ctx.fillStyle = colour("--buff");
  u.ctx.fillRect(
    Math.max(from, u.bbox.left),
    u.bbox.top,
    Math.max(2, Math.min(to, u.bbox.left + u.bbox.width) - Math.max(from, u.bbox.left)),
    u.bbox.height,
  );
  u.ctx.restore();
}

function lines(u: uPlot, shown: Shown): void {
  const ratio = devicePixelRatio || 1;
  const upright = (at: number, dash: number[], width: number) => {
    const x = u.valToPos(at, "x", true);
    if (x < u.bbox.left || x > u.bbox.left + u.bbox.width) return;
    u.ctx.beginPath();
    u.ctx.setLineDash(dash);
    u.ctx.lineWidth = width * ratio;
    u.ctx.moveTo(x, u.bbox.top);
    u.ctx.lineTo(x, u.bbox.top + u.bbox.height);
    u.ctx.stroke();
  };
  u.ctx.save();
  u.ctx.strokeStyle = colour("--ink");
  for (const at of shown.marks) upright(at, [2 * ratio, 4 * ratio], 1);
  u.ctx.strokeStyle = colour("--depth-5");
  if (shown.a !== null) upright(shown.a, [], 2);
  if (shown.b !== null) upright(shown.b, [6 * ratio, 4 * ratio], 2);
  u.ctx.restore();
}
