import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { Link, useParams } from "react-router";
import { ApiError, api, unwrap } from "../../api/client";
import { jobQuery } from "../../api/queries";
import { useMe } from "../../api/session";
import { Headline } from "../../app/Headline";
import { sendOnce } from "../../lib/keys";
import { AskDialog } from "../../ui/AskDialog";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { linesQuery, type Opened, recordingQuery } from "./calls";
import { FeaturesPanel } from "./FeaturesPanel";
import { duration } from "./JobRecordings";
import { KnownGood } from "./KnownGood";
import { Lanes } from "./Lanes";
import { Strip } from "./Strip";
import { difference, useOverlay } from "./useOverlay";
import { type Span, useView } from "./useView";

const FIRST_SHOWN = 4;
const LEAST_HEIGHT = 110;

/** A recording: command lanes and strips on one clock, two cursors, marks, and what can be read off. */
export default function RecordingPage() {
  const { recordingId = "" } = useParams();
  const found = useQuery(recordingQuery(recordingId));
  if (found.error && !found.data)
    return (
      <main className="mx-auto max-w-3xl p-6">
        <h1 className="mb-3 text-2xl">This recording cannot be opened</h1>
        <Notice tone="problem">{found.error.message}</Notice>
      </main>
    );
  if (!found.data)
    return (
      <main className="p-6" aria-busy="true">
        Reading the recording …
      </main>
    );
  if (found.data.recording.state !== "ready")
    return (
      <main className="mx-auto max-w-3xl p-6" aria-busy={found.data.recording.state === "reading"}>
        <h1 className="mb-3 text-2xl">{found.data.recording.name}</h1>
        <Notice tone={found.data.recording.state === "failed" ? "problem" : "note"}>
          {found.data.recording.problem || "It is being read. This page opens by itself; it may be left."}
        </Notice>
      </main>
    );
  return <Ready key={recordingId} opened={found.data} />;
}

function Ready({ opened }: { opened: Opened }) {
  const { recording, channels, lanes, marks } = opened;
  const client = useQueryClient();
  const job = useQuery(jobQuery(recording.job_id)).data?.job;
  const canWrite = useMe().data?.role !== "read-only";
  const whole = useMemo<Span>(() => [recording.start_s, recording.end_s], [recording]);
  const view = useView(whole);
  const plain = channels.filter(
    (one) => one.role !== "command" || !lanes.some((lane) => lane.name === one.name),
  );
  const [shownNumbers, setShown] = useState(() => plain.slice(0, FIRST_SHOWN).map((one) => one.number));
  const [chosen, setChosen] = useState(() => (plain[0] ?? channels[0])?.number ?? 0);
  const [against, setAgainst] = useState<number | null>(null);
  const [lit, setLit] = useState<Span | null>(null);
  const [asking, setAsking] = useState(false);
  const theme = useTheme();
  const [box, size] = useSize();
  const shown = channels.filter((one) => shownNumbers.includes(one.number));
  const wanted = [...new Set([...shownNumbers, ...(against === null ? [] : [against])])].sort(
    (a, b) => a - b,
  );
  const lines = useQuery(
    linesQuery(recording.id, view.span, Math.max(200, Math.round(size.width)), wanted, recording.samples),
  );
  const stretch: Span =
    view.a !== null && view.b !== null ? [Math.min(view.a, view.b), Math.max(view.a, view.b)] : view.span;
  const overlay = useOverlay(
    opened,
    view.span,
    Math.max(200, Math.round(size.width)),
    shown.map((one) => one.name),
    channels.find((one) => one.number === chosen)?.name ?? "",
    stretch,
  );
  const line = (number: number) => lines.data?.lines.find((one) => one.channel === number);
  const mark = useMutation({
    mutationFn: (text: string) =>
      sendOnce(["mark", recording.id, view.a, text], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/recordings/{recording_id}/marks", {
            params: { path: { recording_id: recording.id } },
            body: { client_key, at_s: view.a ?? view.span[0], text },
          }),
        ),
      ),
    onSuccess: (answer) => client.setQueryData(["recording", recording.id], answer),
  });
  useHotkeys("plus,equal", () => view.zoom(0.5), { useKey: true, preventDefault: true }, [view]);
  useHotkeys("minus", () => view.zoom(2), { useKey: true, preventDefault: true }, [view]);
  useHotkeys("+,=", () => view.zoom(0.5), { useKey: true, preventDefault: true }, [view]);
  useHotkeys("-", () => view.zoom(2), { useKey: true, preventDefault: true }, [view]);
  useHotkeys("0", () => view.all(), { useKey: true, preventDefault: true }, [view]);
  useHotkeys("left", () => view.pan(-0.25), { preventDefault: true }, [view]);
  useHotkeys("right", () => view.pan(0.25), { preventDefault: true }, [view]);
  useHotkeys("m", () => canWrite && setAsking(true), { preventDefault: true }, [canWrite]);
  useHotkeys("esc", () => view.forget(), {}, [view]);
  const room = size.height - lanes.length * 49 - 8;
  const chosenName = channels.find((one) => one.number === chosen)?.name ?? "";
  const apart = overlay.id ? difference(line(chosen), overlay.line(chosenName)) : undefined;
  const height = Math.max(LEAST_HEIGHT, Math.floor(room / Math.max(1, shown.length + (apart ? 1 : 0))));
  const onStrip = { span: view.span, a: view.a, b: view.b, marks: marks.map((one) => one.at_s), lit };
  return (
    <main className="flex h-full flex-col">
      <Headline>
        <div className="flex flex-wrap items-baseline gap-x-4 text-sm leading-tight">
          <h1 className="max-w-full truncate text-lg">{recording.name}</h1>
          <Link to={`/jobs/${recording.job_id}?view=recordings`} className="underline underline-offset-4">
            {job?.plate || "Job"}
          </Link>
          <span className="text-soft">
            {duration(recording.end_s - recording.start_s)}, {recording.samples.toLocaleString("en-GB")}{" "}
            samples
          </span>
        </div>
      </Headline>
      <div className="flex flex-wrap items-center gap-x-2 gap-y-1 border-b border-rule px-4 py-1 text-sm">
        <Button onClick={view.all} aria-keyshortcuts="0">
          All
        </Button>
        <Button onClick={() => view.zoom(0.5)} aria-label="Zoom in" aria-keyshortcuts="+">
          +
        </Button>
        <Button onClick={() => view.zoom(2)} aria-label="Zoom out" aria-keyshortcuts="-">
          −
        </Button>
        <Button onClick={() => view.pan(-0.25)} aria-label="Earlier" aria-keyshortcuts="ArrowLeft">
          ◀
        </Button>
        <Button onClick={() => view.pan(0.25)} aria-label="Later" aria-keyshortcuts="ArrowRight">
          ▶
        </Button>
        <Cursors view={view} />
        {canWrite && (
          <Button
            kind="quiet"
            onClick={() => setAsking(true)}
            disabled={view.a === null}
            aria-keyshortcuts="m"
          >
            Mark at A
          </Button>
        )}
        {canWrite && <KnownGood opened={opened} />}
        <span className="ml-auto flex gap-4">
          {(["csv", "mf4"] as const).map((form) => (
            <a
              key={form}
              className="flex min-h-11 items-center text-soft underline underline-offset-4"
              href={`/api/v1/recordings/${recording.id}/file?form=${form}`}
              download
            >
              {form === "csv" ? "CSV" : "MDF 4"}
            </a>
          ))}
        </span>
      </div>
      {recording.notes.length > 0 && (
        <p className="border-b border-rule bg-buff px-4 py-1 text-sm">{recording.notes.join(". ")}.</p>
      )}
      <div className="grid min-h-0 flex-1 grid-cols-1 overflow-auto lg:grid-cols-[1fr_23rem] lg:overflow-hidden">
        <div
          ref={box}
          // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
          tabIndex={0}
          className="relative min-h-[34rem] lg:min-h-[24rem] overflow-x-hidden overflow-y-auto px-2 pt-2"
        >
          <Lanes lanes={lanes} span={view.span} end={recording.end_s} width={size.width} />
          {shown.map((one, index) => (
            <div key={one.number}>
              <button
                type="button"
                aria-pressed={one.number === chosen}
                onClick={() => setChosen(one.number)}
                className={`flex min-h-6 items-baseline gap-2 pl-2 text-sm ${one.number === chosen ? "font-[650] underline underline-offset-4" : ""}`}
              >
                {one.name}
                <span className="text-soft">{one.unit}</span>
                <At line={line(one.number)} unit={one.unit} a={view.a} b={view.b} />
              </button>
              <Strip
                name={one.name}
                unit={one.unit}
                line={line(one.number)}
                other={
                  overlay.id
                    ? overlay.line(one.name)
                    : one.number === chosen && against !== null
                      ? line(against)
                      : undefined
                }
                shown={onStrip}
                width={size.width}
                height={Math.max(60, height - 24)}
                times={index === shown.length - 1 && !apart}
                theme={theme}
                onZoom={view.show}
                onPlace={view.place}
                onWheel={view.zoom}
              />
            </div>
          ))}
          {apart && (
            <div>
              <p className="flex min-h-6 items-baseline gap-2 pl-2 text-sm">
                {chosenName}, difference
                <span className="text-soft">
                  {channels.find((one) => one.number === chosen)?.unit}, this less “{overlay.name}”
                </span>
              </p>
              <Strip
                name={`${chosenName}, difference`}
                unit=""
                line={apart}
                shown={onStrip}
                width={size.width}
                height={Math.max(60, height - 24)}
                times
                theme={theme}
                onZoom={view.show}
                onPlace={view.place}
                onWheel={view.zoom}
              />
            </div>
          )}
          {lines.error && (
            <Notice tone="problem">
              {lines.error instanceof ApiError ? lines.error.problem.detail : "The server does not answer."}
            </Notice>
          )}
        </div>
        <div
          // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
          tabIndex={0}
          className="relative border-rule px-4 py-3 max-lg:border-t lg:overflow-auto lg:border-l"
        >
          <FeaturesPanel
            opened={opened}
            view={view}
            stretch={stretch}
            overlay={overlay}
            chosen={chosen}
            against={against}
            shown={shownNumbers}
            canWrite={canWrite}
            onChoose={setChosen}
            onAgainst={setAgainst}
            onShown={setShown}
            onLit={setLit}
          />
        </div>
      </div>
      <AskDialog
        open={asking && view.a !== null}
        title="Mark this moment"
        choices={["It happened here", "Command clicked", "Engine warm"]}
        accept="Mark"
        onClose={() => setAsking(false)}
        onAccept={(text) => {
          mark.mutate(text);
          setAsking(false);
        }}
      >
        {`At ${view.a?.toFixed(3)} s: what happened?`}
      </AskDialog>
    </main>
  );
}

function Cursors({ view }: { view: ReturnType<typeof useView> }) {
  if (view.a === null)
    return <span className="px-2 text-soft">Tap a strip to place a cursor, drag to zoom.</span>;
  return (
    <span className="figure flex items-baseline gap-3 px-2" data-testid="cursors">
      A {view.a.toFixed(3)} s
      {view.b !== null && (
        <>
          <span>B {view.b.toFixed(3)} s</span>
          <span>
            B − A {(view.b - view.a).toFixed(3)} s
            {view.b !== view.a && ` (${Math.abs(1 / (view.b - view.a)).toPrecision(3)} Hz)`}
          </span>
        </>
      )}
    </span>
  );
}

/** Figures of a channel under the cursors, and their difference. */
function At(props: {
  line: { t: number[]; least: number[]; greatest: number[] } | undefined;
  unit: string;
  a: number | null;
  b: number | null;
}) {
  const at = (seconds: number | null) => {
    const { line } = props;
    if (seconds === null || !line || line.t.length === 0) return null;
    let index = line.t.findIndex((t) => t > seconds);
    index = index === -1 ? line.t.length - 1 : Math.max(0, index - 1);
    return ((line.least[index] ?? 0) + (line.greatest[index] ?? 0)) / 2;
  };
  const a = at(props.a);
  const b = at(props.b);
  if (a === null) return null;
  return (
    <span className="figure text-soft">
      A {short(a)}
      {b !== null && ` · B ${short(b)} · difference ${short(b - a)} ${props.unit}`}
    </span>
  );
}

function short(value: number): string {
  return Math.abs(value) >= 1000 ? value.toFixed(0) : value.toPrecision(4).replace("-", "−");
}

/** The theme as it is now, so that what is painted on a canvas follows it. */
function useTheme(): string {
  const [theme, setTheme] = useState(document.documentElement.dataset.theme ?? "light");
  useEffect(() => {
    const seen = new MutationObserver(() => setTheme(document.documentElement.dataset.theme ?? "light"));
    seen.observe(document.documentElement, { attributes: true, attributeFilter: ["data-theme"] });
    return () => seen.disconnect();
  }, []);
  return theme;
}

function useSize() {
  const box = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState({ width: 800, height: 500 });
  useLayoutEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = () => setSize({ width: element.clientWidth - 16, height: element.clientHeight - 16 });
    measure();
    const seen = new ResizeObserver(measure);
    seen.observe(element);
    return () => seen.disconnect();
  }, []);
  return [box, size] as const;
}
