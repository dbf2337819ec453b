import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { featuresQuery, type Line, linesQuery, type Opened, recordingQuery, recordingsQuery } from "./calls";
import type { Span } from "./useView";

const NOWHERE: Span = [0, 0];

/** Another recording laid over this one: which, by how many seconds it is moved, its lines and its features. */
export interface Overlay {
  choices: { id: string; name: string }[];
  id: string;
  name: string;
  shift: number;
  by: string;
  choose: (id: string) => void;
  move: (seconds: number) => void;
  line: (channel: string) => Line | undefined;
  features: ReturnType<typeof useFeatures>;
}

/** Lays another recording of the job, or one of a good vehicle of the same kind, over this one; both are aligned by the first command that they share, else by their beginnings. */
export function useOverlay(
  opened: Opened,
  span: Span,
  columns: number,
  shown: readonly string[],
  chosen: string,
  stretch: Span,
): Overlay {
  const [id, setId] = useState("");
  const [moved, setMoved] = useState(0);
  const list = useQuery(recordingsQuery(opened.recording.job_id)).data?.recordings ?? [];
  const other = useQuery({ ...recordingQuery(id), enabled: id !== "" }).data;
  const aligned = useMemo(() => (other ? alignment(opened, other) : { shift: 0, by: "" }), [opened, other]);
  const shift = aligned.shift + moved;
  const numbers = (other?.channels ?? []).filter((one) => shown.includes(one.name)).map((one) => one.number);
  const there: Span = other ? [span[0] - shift, span[1] - shift] : NOWHERE;
  const lines = useQuery({
    ...linesQuery(id, there, columns, numbers, other?.recording.samples ?? 0),
    enabled: other !== undefined && numbers.length > 0,
  }).data?.lines;
  const features = useFeatures(id, other, chosen, [stretch[0] - shift, stretch[1] - shift]);
  return {
    choices: [
      ...list
        .filter((one) => one.id !== opened.recording.id && one.state === "ready")
        .map((one) => ({ id: one.id, name: one.name })),
      ...opened.good_ones.map((one) => ({ id: one.id, name: `Known good, ${one.said}: ${one.name}` })),
    ],
    id,
    name: other?.recording.name ?? "",
    shift,
    by: moved === 0 ? aligned.by : "moved by hand",
    choose: (next) => {
      setId(next);
      setMoved(0);
    },
    move: (seconds) => setMoved((now) => now + seconds),
    line: (name) => {
      const channel = other?.channels.find((one) => one.name === name);
      const found = channel && lines?.find((one) => one.channel === channel.number);
      return found && { ...found, t: found.t.map((t) => t + shift) };
    },
    features,
  };
}

function useFeatures(id: string, other: Opened | undefined, chosen: string, stretch: Span) {
  const channel = other?.channels.find((one) => one.name === chosen);
  const query = featuresQuery(id, stretch, channel?.number ?? 0, null);
  return useQuery({ ...query, enabled: other !== undefined && channel !== undefined }).data?.features ?? [];
}

/** Seconds by which the other must be moved so that what happened first happened at once. */
function alignment(one: Opened, other: Opened): { shift: number; by: string } {
  for (const lane of one.lanes) {
    const same = other.lanes.find((theirs) => theirs.name === lane.name);
    const [, first] = lane.changes;
    const theirs = same?.changes[1];
    if (first && theirs) return { shift: first.at_s - theirs.at_s, by: `aligned by ${lane.name}` };
  }
  for (const mark of one.marks) {
    const same = other.marks.find((theirs) => theirs.text === mark.text);
    if (same) return { shift: mark.at_s - same.at_s, by: `aligned by the mark “${mark.text}”` };
  }
  return { shift: one.recording.start_s - other.recording.start_s, by: "aligned by their beginnings" };
}

/** The difference of two lines where both were recorded, on the clock of the first. */
export function difference(one: Line | undefined, other: Line | undefined): Line | undefined {
  if (!one || !other || one.t.length < 2 || other.t.length < 2) return undefined;
  const t: number[] = [];
  const y: number[] = [];
  let at = 0;
  for (let index = 0; index < one.t.length; index += 1) {
    const now = one.t[index] as number;
    while (at + 2 < other.t.length && (other.t[at + 1] as number) <= now) at += 1;
    const [from, to] = [other.t[at] as number, other.t[at + 1] as number];
    if (now < from || now > to) continue;
    const share = to > from ? (now - from) / (to - from) : 0;
    const theirs = middle(other, at) * (1 - share) + middle(other, at + 1) * share;
    t.push(now);
    y.push(middle(one, index) - theirs);
  }
  return t.length > 1 ? { channel: -1, t, least: y, greatest: y } : undefined;
}

function middle(line: Line, index: number): number {
  return ((line.least[index] ?? 0) + (line.greatest[index] ?? 0)) / 2;
}
