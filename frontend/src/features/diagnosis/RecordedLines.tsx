import { type ReactNode, useState } from "react";
import type { JobDetail } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { useAnswer } from "../job/useAnswer";

const FIELD = "mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink";

/** One field of a line: text, a number, one of some words, or a picture of the job. */
export interface LineField {
  name: string;
  label: string;
  kind?: "text" | "number" | "choice" | "picture";
  choices?: readonly string[];
  placeholder?: string;
  most?: number;
  required?: boolean;
  /** What stands in it to begin with. */
  initial?: string;
}

type Values = Record<string, string>;

interface Props {
  detail: JobDetail;
  /** The answer of the job that holds the lines, each a row of fields divided by upright strokes. */
  answer: string;
  title: string;
  fields: readonly LineField[];
  canWrite: boolean;
  /** What opens the form, and what its button says. */
  open: string;
  add: string;
  /** A caution above the form. */
  caution?: string;
  /** A line as it is told; pictures are shown beside it. */
  tell: (values: Values) => ReactNode;
  /** What is to be said about the line while it is being written. */
  remark?: (values: Values) => ReactNode;
  /** A change that a line offers beside being taken off. */
  change?: { words: string; applies: (values: Values) => boolean; to: (values: Values) => Values };
}

/** A list that a repair leaves behind: lines with a form to add one, each told in words with its pictures. */
export function RecordedLines(props: Props) {
  const { detail, fields, canWrite, change } = props;
  const held = useAnswer<string[]>(detail, props.answer, []);
  const [said, setSaid] = useState<Values>({});
  const one: Values = {
    ...Object.fromEntries(fields.map((field) => [field.name, field.initial ?? field.choices?.[0] ?? ""])),
    ...said,
  };
  const read = (line: string): Values => {
    const parts = line.split("|").map((part) => part.trim());
    return Object.fromEntries(fields.map((field, index) => [field.name, parts[index] ?? ""]));
  };
  const write = (values: Values) =>
    fields.map((field) => (values[field.name] ?? "").trim().replaceAll("|", "/")).join(" | ");
  const missing = fields.some((field) => field.required && (one[field.name] ?? "").trim() === "");
  const replace = (at: number, line: string | null) =>
    held.answer(
      line === null
        ? held.value.filter((_, index) => index !== at)
        : held.value.map((old, index) => (index === at ? line : old)),
    );
  return (
    <div className="mt-4" data-testid={props.answer}>
      <h4 className="text-sm text-soft">{props.title}</h4>
      <ul aria-label={props.title}>
        {held.value.map((line, index) => {
          const values = read(line);
          return (
            <li
              key={line}
              className="flex flex-wrap items-center gap-x-4 gap-y-1 border-t border-rule py-2 text-sm"
            >
              <span className="min-w-60 flex-1">{props.tell(values)}</span>
              {fields
                .filter((field) => field.kind === "picture" && values[field.name])
                .map((field) => (
                  <Picture
                    key={field.name}
                    job={detail.job.id}
                    photo={values[field.name] ?? ""}
                    words={field.label}
                  />
                ))}
              {canWrite && change?.applies(values) && (
                <Button onClick={() => replace(index, write(change.to(values)))}>{change.words}</Button>
              )}
              {canWrite && (
                <Button kind="quiet" onClick={() => replace(index, null)}>
                  take off
                </Button>
              )}
            </li>
          );
        })}
      </ul>
      {held.problem && <Notice tone="problem">{held.problem.detail}</Notice>}
      {canWrite && (
        <details className="mt-1">
          <summary className="min-h-11 cursor-pointer content-center underline underline-offset-4">
            {props.open}
          </summary>
          {props.caution && <Notice tone="caution">{props.caution}</Notice>}
          <div className="grid gap-3 text-sm text-soft sm:grid-cols-2">
            {fields.map((field) => (
              <Field
                key={field.name}
                field={field}
                photos={detail.photos}
                value={one[field.name] ?? ""}
                onChange={(value) => setSaid({ ...said, [field.name]: value })}
              />
            ))}
          </div>
          {props.remark?.(one)}
          <Button
            className="mt-2"
            disabled={held.saving || missing || held.value.includes(write(one))}
            onClick={() => {
              held.answer([...held.value, write(one)]);
              setSaid({});
            }}
          >
            {props.add}
          </Button>
        </details>
      )}
    </div>
  );
}

function Field(props: {
  field: LineField;
  photos: JobDetail["photos"];
  value: string;
  onChange: (value: string) => void;
}) {
  const { field, value, onChange } = props;
  if (field.kind !== "choice" && field.kind !== "picture")
    return (
      <TextField
        label={field.label}
        value={value}
        maxLength={field.most ?? 200}
        inputMode={field.kind === "number" ? "decimal" : undefined}
        placeholder={field.placeholder}
        onChange={(event) => onChange(event.target.value)}
      />
    );
  return (
    <label>
      {field.label}
      <select className={FIELD} value={value} onChange={(event) => onChange(event.target.value)}>
        {field.choices?.map((word) => (
          <option key={word}>{word}</option>
        ))}
        {field.kind === "picture" && <option value="">none</option>}
        {field.kind === "picture" &&
          props.photos.map((photo) => (
            <option key={photo.id} value={photo.id}>
              {photo.caption || "without a caption"}
            </option>
          ))}
      </select>
    </label>
  );
}

function Picture({ job, photo, words }: { job: string; photo: string; words: string }) {
  const path = `/api/v1/jobs/${job}/photos/${photo}`;
  return (
    <a href={path} target="_blank" rel="noreferrer">
      <img src={`${path}?size=thumbnail`} alt={words} className="h-14 border border-rule" />
    </a>
  );
}
