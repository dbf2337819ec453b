import { type ReactNode, useEffect, useId, useRef, useState } from "react";
import type { JobDetail } from "../../api/client";
import type { Unit } from "../../lib/units";
import { Button } from "../../ui/Button";
import { Picks } from "../../ui/Picks";
import { useAnswer } from "./useAnswer";

export function Question({ label, children, id }: { label: string; children: ReactNode; id?: string }) {
  return (
    <div>
      <label htmlFor={id} className="mb-1 block text-sm text-soft">
        {label}
      </label>
      {children}
    </div>
  );
}

/** Both answers side by side when two people answered at once; nothing is lost. */
function Conflict<T>({ held }: { held: ReturnType<typeof useAnswer<T>> }) {
  if (!held.conflict) return null;
  const { mine, theirs } = held.conflict;
  return (
    <div role="alert" className="mt-1 border-l-4 border-ink bg-buff px-3 py-2 text-sm" data-testid="conflict">
      <strong className="font-[700]">{theirs.by ?? "Someone"} answered meanwhile:</strong>{" "}
      {asText(theirs.value)}
      <br />
      <strong className="font-[700]">Yours:</strong> {asText(mine)}
      <div className="mt-1 flex gap-2">
        <Button onClick={held.keepTheirs}>Keep theirs</Button>
        <Button onClick={held.useMine}>Use mine</Button>
      </div>
    </div>
  );
}

function asText(value: unknown): string {
  if (Array.isArray(value)) return value.join(", ") || "nothing";
  if (value === null || value === "") return "nothing";
  return value === true ? "yes" : value === false ? "no" : String(value);
}

export function Trouble<T>({ held }: { held: ReturnType<typeof useAnswer<T>> }) {
  return (
    <>
      {held.problem && (
        <p role="alert" className="mt-1 text-sm font-[600]">
          {held.problem.errors?.[0]?.message ?? held.problem.detail}
        </p>
      )}
      <Conflict held={held} />
    </>
  );
}

export interface FieldProps {
  detail: JobDetail;
  field: string;
  label: string;
  canWrite: boolean;
}

export function TextAnswer(props: FieldProps & { fallback?: string; rows: number; placeholder?: string }) {
  const held = useAnswer<string>(props.detail, props.field, props.fallback ?? "");
  const id = useId();
  const [text, setText] = useState(held.value);
  const [editing, setEditing] = useState(false);
  // The entry the writer had before them when they began: what came since is a conflict, not theirs to overwrite.
  const seen = useRef(held.seq);
  useEffect(() => {
    if (!editing) setText(held.value);
  }, [held.value, editing]);
  const shared = {
    id,
    value: text,
    placeholder: props.placeholder,
    readOnly: !props.canWrite,
    "aria-invalid": held.problem !== null,
    className: "block w-full rounded-sm border border-ink/60 bg-raised px-3 py-2 text-base",
    onFocus: () => {
      setEditing(true);
      seen.current = held.seq;
    },
    onBlur: () => {
      setEditing(false);
      if (text.trim() !== held.value || held.seq !== seen.current) {
        if (text.trim() !== held.value) held.answer(text.trim(), seen.current);
      }
    },
  };
  return (
    <Question label={props.label} id={id}>
      {props.rows > 1 ? (
        <textarea rows={props.rows} {...shared} onChange={(event) => setText(event.target.value)} />
      ) : (
        <input {...shared} onChange={(event) => setText(event.target.value)} />
      )}
      <Trouble held={held} />
    </Question>
  );
}

export function NumberAnswer(
  props: FieldProps & { fallback?: number | null; unit?: Unit; placeholder?: string },
) {
  const held = useAnswer<number | null>(props.detail, props.field, props.fallback ?? null);
  const id = useId();
  const { show, keep } = props.unit ?? { show: (value: number) => value, keep: (value: number) => value };
  const shown = held.value === null ? "" : String(show(held.value));
  const [text, setText] = useState(shown);
  const [wrong, setWrong] = useState(false);
  useEffect(() => setText(shown), [shown]);
  return (
    <Question label={props.label} id={id}>
      <input
        id={id}
        inputMode="decimal"
        value={text}
        placeholder={props.placeholder}
        readOnly={!props.canWrite}
        aria-invalid={wrong || held.problem !== null}
        className="figure block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-3 text-lg"
        onChange={(event) => setText(event.target.value)}
        onBlur={() => {
          const cleaned = text.trim().replace(",", ".").replace(/\s/g, "");
          const number = cleaned === "" ? null : Number(cleaned);
          setWrong(Number.isNaN(number));
          // Compared as shown: what was not touched is not answered anew in a rounded form.
          if (!Number.isNaN(number) && cleaned !== shown) held.answer(number === null ? null : keep(number));
        }}
      />
      {wrong && <p className="mt-1 text-sm font-[600]">A number is expected, e.g. 12.4</p>}
      <Trouble held={held} />
    </Question>
  );
}

export function PickAnswer(props: FieldProps & { options: { key: string; title: string }[] }) {
  const held = useAnswer<string[]>(props.detail, props.field, []);
  return (
    <Question label={props.label}>
      <Picks
        label={props.label}
        options={props.options}
        chosen={held.value}
        onChange={(value) => held.answer([...value].sort())}
        disabled={!props.canWrite}
      />
      <Trouble held={held} />
    </Question>
  );
}

export function OneOfAnswer(
  props: FieldProps & { options: { key: string; title: string }[]; fallback: string },
) {
  const held = useAnswer<string>(props.detail, props.field, props.fallback);
  return (
    <Question label={props.label}>
      <Picks
        label={props.label}
        single
        options={props.options}
        chosen={held.value ? [held.value] : []}
        onChange={([value = ""]) => held.answer(value)}
        disabled={!props.canWrite}
      />
      <Trouble held={held} />
    </Question>
  );
}
