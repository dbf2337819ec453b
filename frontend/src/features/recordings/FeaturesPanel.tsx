import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { ApiError, api, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { type Feature, featuresQuery, type Opened } from "./calls";
import { FitsTogether } from "./FitsTogether";
import { MeaningDialog } from "./MeaningDialog";
import { OverEachOther } from "./OverEachOther";
import type { Overlay } from "./useOverlay";
import type { Span, View } from "./useView";

const FIELD = "mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink";

/** Features that may count as readings: a level, and how late and how fast what is commanded is followed. */
const USABLE: ReadonlySet<string> = new Set(["level", "dead", "lag", "no movement"]);

/** What the stretch that is seen offers to be read off a channel; a level becomes a reading when somebody says so. */
export function FeaturesPanel(props: {
  opened: Opened;
  view: View;
  stretch: Span;
  overlay: Overlay;
  chosen: number;
  against: number | null;
  shown: number[];
  canWrite: boolean;
  onChoose: (channel: number) => void;
  onAgainst: (channel: number | null) => void;
  onShown: (channels: number[]) => void;
  onLit: (span: Span | null) => void;
}) {
  const { opened, view, chosen, against, stretch, overlay } = props;
  const { recording, channels } = opened;
  const found = useQuery(featuresQuery(recording.id, stretch, chosen, against));
  const [meaning, setMeaning] = useState(false);
  const channel = channels.find((one) => one.number === chosen);
  const other = channels.find((one) => one.number === against);
  if (!channel) return <p className="text-soft">This recording holds states only.</p>;
  const between = view.a !== null && view.b !== null;
  return (
    <>
      <div className="mb-2 grid grid-cols-2 gap-2 text-sm text-soft">
        <label>
          Read off
          <select
            className={FIELD}
            value={chosen}
            onChange={(event) => {
              const next = Number(event.target.value);
              props.onChoose(next);
              if (!props.shown.includes(next)) props.onShown([...props.shown, next]);
              if (next === against) props.onAgainst(null);
            }}
          >
            {channels.map((one) => (
              <option key={one.number} value={one.number}>
                {one.name}
              </option>
            ))}
          </select>
        </label>
        <label>
          Held against
          <select
            className={FIELD}
            value={against ?? ""}
            onChange={(event) =>
              props.onAgainst(event.target.value === "" ? null : Number(event.target.value))
            }
          >
            <option value="">nothing</option>
            {channels
              .filter((one) => one.number !== chosen)
              .map((one) => (
                <option key={one.number} value={one.number}>
                  {one.name}
                </option>
              ))}
          </select>
        </label>
      </div>
      {overlay.choices.length > 0 && (
        <div className="mb-2 text-sm text-soft">
          <label>
            Laid over it
            <select
              className={FIELD}
              value={overlay.id}
              onChange={(event) => overlay.choose(event.target.value)}
            >
              <option value="">no other recording</option>
              {overlay.choices.map((one) => (
                <option key={one.id} value={one.id}>
                  {one.name}
                </option>
              ))}
            </select>
          </label>
          {overlay.id && (
            <p className="mt-1 flex items-center gap-2">
              Dashed, {overlay.by}.
              <Button aria-label="Move it earlier by 0.1 s" onClick={() => overlay.move(-0.1)}>
                ◀
              </Button>
              <Button aria-label="Move it later by 0.1 s" onClick={() => overlay.move(0.1)}>
                ▶
              </Button>
            </p>
          )}
        </div>
      )}
      <p className="mb-2 text-sm text-soft">
        {between ? "Between the cursors" : "Over what is seen"}: {stretch[0].toFixed(2)} to{" "}
        {stretch[1].toFixed(2)} s.{" "}
        {channel.sample_s > 0 && `${(1 / channel.sample_s).toPrecision(3)} samples a second.`}
      </p>
      <FitsTogether recordingId={recording.id} stretch={stretch} onLit={props.onLit} />
      {other && <OverEachOther recordingId={recording.id} x={other} y={channel} stretch={stretch} />}
      {found.error && (
        <Notice tone="problem">
          {found.error instanceof ApiError ? found.error.problem.detail : "The server does not answer."}
        </Notice>
      )}
      {found.isPending && <p className="text-soft">Reading off …</p>}
      <ul aria-label="Read off" className="text-sm">
        {found.data?.features.map((feature) => (
          <Item
            key={`${feature.kind} ${feature.title} ${feature.start_s}`}
            feature={feature}
            opened={opened}
            other={sameThere(feature, overlay)}
            canWrite={props.canWrite}
            onLit={props.onLit}
            onMeaning={() => setMeaning(true)}
          />
        ))}
      </ul>
      {found.data?.features.length === 0 && <p className="text-soft">Too few samples in this stretch.</p>}
      {props.canWrite && (
        <p className="mt-3">
          <Button onClick={() => setMeaning(true)}>
            {channel.tie ? `Measured at ${channel.tie.red}` : "Say what it measures"}
          </Button>
        </p>
      )}
      <fieldset className="mt-4 border-t border-rule pt-2 text-sm">
        <legend className="sr-only">Channels shown</legend>
        <p className="text-soft">Channels shown</p>
        {channels.map((one) => (
          <label key={one.number} className="flex min-h-9 items-center gap-2">
            <input
              type="checkbox"
              className="size-5"
              checked={props.shown.includes(one.number)}
              onChange={() =>
                props.onShown(
                  props.shown.includes(one.number)
                    ? props.shown.filter((number) => number !== one.number)
                    : [...props.shown, one.number].sort((a, b) => a - b),
                )
              }
            />
            {one.name} <span className="text-soft">{one.unit}</span>
          </label>
        ))}
      </fieldset>
      {opened.marks.length > 0 && (
        <ul aria-label="Marks" className="mt-3 border-t border-rule pt-2 text-sm">
          {opened.marks.map((mark) => (
            <li key={`${mark.at_s} ${mark.text}`}>
              <button
                type="button"
                className="min-h-9 text-left underline underline-offset-4"
                onClick={() => view.show([mark.at_s - 1, mark.at_s + 1])}
              >
                <span className="figure">{mark.at_s.toFixed(2)} s</span> {mark.text}
              </button>
            </li>
          ))}
        </ul>
      )}
      <MeaningDialog opened={opened} channel={channel} open={meaning} onClose={() => setMeaning(false)} />
    </>
  );
}

/** The same feature of the recording that is laid over: of several with the same words, the nearest in time. */
function sameThere(feature: Feature, overlay: Overlay): Feature | undefined {
  const away = (one: Feature) => Math.abs(one.start_s + overlay.shift - feature.start_s);
  return overlay.features
    .filter((one) => one.kind === feature.kind && one.title === feature.title)
    .sort((one, other) => away(one) - away(other))[0];
}

/** How far two features of the same kind are apart, with the root sum of squares of what is not known of each. */
function apart(one: Feature, other: Feature): string {
  if (one.value === null || other.value === null || one.sd === null || other.sd === null) return "";
  const half = 1.96 * Math.hypot(one.sd, other.sd);
  const digits = half > 0 ? Math.min(9, Math.max(0, 1 - Math.floor(Math.log10(half)))) : 3;
  const by = (+(one.value - other.value).toFixed(digits) + 0).toFixed(digits).replace("-", "−");
  const told = Math.abs(one.value - other.value) > half ? "" : ", which may be nothing";
  return `; difference ${by} ± ${half.toFixed(digits)} ${one.unit}${told}`;
}

function Item(props: {
  feature: Feature;
  other: Feature | undefined;
  opened: Opened;
  canWrite: boolean;
  onLit: (span: Span | null) => void;
  onMeaning: () => void;
}) {
  const { feature, opened } = props;
  const client = useQueryClient();
  const channel = opened.channels.find((one) => one.name === feature.channel);
  const [open, setOpen] = useState(false);
  const use = useMutation({
    mutationFn: () =>
      sendOnce(["level", opened.recording.id, feature], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/recordings/{recording_id}/readings", {
            params: { path: { recording_id: opened.recording.id } },
            body: {
              client_key,
              kind: feature.kind as "level",
              channel: channel?.number ?? 0,
              start_s: feature.start_s,
              end_s: feature.end_s,
              controls: {},
              unplugged: [],
            },
          }),
        ),
      ),
    onSuccess: (answer) => {
      client.invalidateQueries({ queryKey: ["measuring", answer.diagnosis_id] });
      client.invalidateQueries({ queryKey: ["job", opened.recording.job_id] });
    },
  });
  const turn = () => {
    setOpen(!open);
    props.onLit(open ? null : [feature.start_s, feature.end_s]);
  };
  return (
    <li className="border-t border-rule" data-feature={feature.kind}>
      <button
        type="button"
        onClick={turn}
        aria-expanded={open}
        className="block min-h-9 w-full py-1 text-left"
      >
        <span className="text-soft">{feature.title}</span>{" "}
        <span className={`figure ${feature.shown.length < 30 ? "whitespace-nowrap" : ""}`}>
          {feature.shown}
        </span>
        {feature.word && <span className="text-soft">; {feature.word}</span>}
        {props.other && (
          <span className="block text-soft">
            laid over: <span className="figure">{props.other.shown}</span>
            {apart(feature, props.other)}
          </span>
        )}
      </button>
      {open && (
        <div className="pb-2">
          <p className="text-soft">
            Read from {feature.start_s.toFixed(2)} to {feature.end_s.toFixed(2)} s, tinted in the strip.
          </p>
          {USABLE.has(feature.kind) && props.canWrite && !use.isSuccess && (
            <Button
              onClick={() => (channel?.tie ? use.mutate() : props.onMeaning())}
              disabled={use.isPending}
            >
              {channel?.tie ? "Use as a reading" : "Say what it measures, to use it"}
            </Button>
          )}
          {use.data && (
            <Link to={`/measure/${use.data.diagnosis_id}`} className="underline underline-offset-4">
              It counts as a reading: see what it did
            </Link>
          )}
          {use.error && (
            <Notice tone="problem">
              {use.error instanceof ApiError ? use.error.problem.detail : "The server does not answer."}
            </Notice>
          )}
        </div>
      )}
    </li>
  );
}
