import { type Ref, type RefObject, useImperativeHandle, useState } from "react";
import { Link } from "react-router";
import type { Schema } from "../../../api/client";
import { Button } from "../../../ui/Button";

const DIGITS = ["7", "8", "9", "4", "5", "6", "1", "2", "3", "0", ".", "−"];
const PREFIXES = ["m", "k", "M", "/"];

export interface Entry {
  text: string;
  note: string;
  source: "typed" | "meter";
}

/** What others may do to the text being entered. */
export interface EntryHandle {
  fill: (entry: Partial<Entry>) => void;
  /** Bring something back that was not taken, unless something else is being typed by now. */
  restore: (entry: Partial<Entry>) => void;
  clear: () => void;
  addNote: (text: string) => void;
}

interface Props {
  ref: Ref<EntryHandle>;
  input: RefObject<HTMLInputElement | null>;
  onSubmit: (entry: Entry) => void;
  /** Something was typed: what the server refused before no longer matters. */
  onTyped: () => void;
  /** The diagnosis can be concluded: recording is no longer the next thing to do. */
  due: boolean;
  device: Schema["InstrumentView"];
  problem: string | null;
  /** The server asks whether another order of magnitude was meant. */
  meant: { typed: string; meant: string } | null;
  onMeant: (text: string, note: string) => void;
  /** The reading that this entry will correct. */
  correcting: string | null;
  meter: boolean;
  meterBusy: boolean;
  onMeter: () => void;
  /** Where the meter is recorded over time at the points of this test; null if none is connected that can. */
  log: string | null;
  /** The workshop's meters to choose from, with their own accuracy. */
  meters: { id: string; name: string }[];
  meterId: string;
  onMeterId: (id: string) => void;
}

const NOTHING: Entry = { text: "", note: "", source: "typed" };

/** The big field: type from anywhere, or use the pad. What is typed stays in here until it is recorded. */
export function EntryField(props: Props) {
  const { device, ref, input, onTyped } = props;
  const [entry, setEntry] = useState<Entry>(NOTHING);
  const [pad, setPad] = useState(() => matchMedia("(pointer: coarse) and (min-height: 1000px)").matches);
  const [noting, setNoting] = useState(false);
  const [deaf, setDeaf] = useState(false);
  useImperativeHandle(
    ref,
    () => ({
      fill: (given) => setEntry((now) => ({ ...now, ...given })),
      restore: (given) => setEntry((now) => (now.text === "" ? { ...now, ...given } : now)),
      clear: () => setEntry(NOTHING),
      addNote: (text) => setEntry((now) => ({ ...now, note: now.note ? `${now.note}; ${text}` : text })),
    }),
    [],
  );
  const type = (text: string) => {
    setEntry((now) => ({ ...now, text, source: "typed" }));
    onTyped();
  };
  const append = (text: string) => {
    type(entry.text + text);
    input.current?.focus();
  };
  const onlyWords = !device.figures;
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (entry.text.trim()) props.onSubmit(entry);
      }}
    >
      <div className="flex items-stretch gap-2">
        <label
          className={`flex min-w-0 flex-1 items-baseline gap-2 border-b-4 bg-raised px-3 py-1 ${props.due ? "border-ink" : "border-next"}`}
        >
          <span className="sr-only">Reading</span>
          <input
            ref={input}
            value={entry.text}
            onChange={(event) => type(event.target.value)}
            placeholder={onlyWords ? device.words.map((item) => item.label).join(", ") : "type the reading"}
            className="figure min-w-0 flex-1 bg-transparent text-4xl placeholder:text-xl placeholder:font-[400] placeholder:text-soft focus:outline-none"
            autoComplete="off"
            spellCheck={false}
            inputMode={pad ? "none" : "text"}
            aria-describedby="entry-problem"
            aria-invalid={props.problem !== null}
            data-testid="entry"
          />
          <span className="text-2xl text-soft">{device.unit}</span>
        </label>
        <Button
          kind={props.due ? "plain" : "next"}
          type="submit"
          disabled={!entry.text.trim()}
          className="text-lg"
        >
          Record
        </Button>
      </div>
      {props.correcting && (
        <p className="text-sm font-[600]">Replaces {props.correcting}. Esc leaves it as it was.</p>
      )}
      <p id="entry-problem" role="alert" className="min-h-0 text-sm font-[600]">
        {props.problem}
      </p>
      {props.meant && (
        <div className="my-1 flex flex-wrap gap-2">
          <Button onClick={() => props.meant && props.onMeant(props.meant.meant, entry.note)} autoFocus>
            Yes, {props.meant.meant}
          </Button>
          <Button onClick={() => props.meant && props.onMeant(props.meant.typed, entry.note)}>
            No, {props.meant.typed} as typed
          </Button>
        </div>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        {device.words.map(({ word, label }) => (
          <Button
            key={word}
            onClick={() => props.onSubmit({ ...entry, text: word })}
            className={onlyWords ? "min-h-14 flex-1 text-xl" : ""}
          >
            {label}
          </Button>
        ))}
        {props.meter && (
          <Button onClick={props.onMeter} disabled={props.meterBusy}>
            {props.meterBusy ? "Reading the meter …" : "Read the meter (R)"}
          </Button>
        )}
        {props.log && (
          <Link to={props.log} className="flex min-h-11 items-center px-2 underline underline-offset-4">
            Log the meter
          </Link>
        )}
        {!onlyWords && (
          <Button kind="quiet" onClick={() => setPad(!pad)} aria-expanded={pad}>
            {pad ? "Hide number pad" : "Number pad"}
          </Button>
        )}
        {props.meters.length > 0 && (
          <select
            aria-label="Meter"
            className="min-h-11 rounded-sm border border-ink/60 bg-raised px-2 text-sm text-ink"
            value={props.meters.some((item) => item.id === props.meterId) ? props.meterId : ""}
            onChange={(event) => props.onMeterId(event.target.value)}
          >
            <option value="">usual accuracy</option>
            {props.meters.map((item) => (
              <option key={item.id} value={item.id}>
                {item.name}
              </option>
            ))}
          </select>
        )}
        {speechInput() && (
          <Button kind="quiet" onClick={() => listen(type, () => setDeaf(true))} disabled={deaf}>
            {deaf ? "Dictation failed: type it" : "Speak"}
          </Button>
        )}
        <Button kind="quiet" onClick={() => setNoting(!noting)} aria-expanded={noting || entry.note !== ""}>
          Note
        </Button>
      </div>
      {(noting || entry.note !== "") && (
        <label className="mt-1 block text-sm text-soft">
          Note to this reading
          <input
            value={entry.note}
            onChange={(event) => setEntry({ ...entry, note: event.target.value })}
            maxLength={2000}
            className="block min-h-11 w-full border border-ink/60 bg-raised px-3 text-base text-ink"
          />
        </label>
      )}
      {pad && !onlyWords && (
        <fieldset className="mt-2 grid grid-cols-[repeat(3,1fr)_4.5rem] gap-1.5" aria-label="Number pad">
          <div className="col-span-3 grid grid-cols-3 gap-1.5">
            {DIGITS.map((digit) => (
              <Button key={digit} className="min-h-12 text-xl" onClick={() => append(digit)}>
                {digit}
              </Button>
            ))}
          </div>
          <div className="grid gap-1.5">
            {PREFIXES.map((prefix) => (
              <Button
                key={prefix}
                className="min-h-11 px-0 text-xl"
                aria-label={prefix === "/" ? "to, between least and most" : prefix}
                onClick={() => append(prefix)}
              >
                {prefix}
              </Button>
            ))}
            <Button
              className="min-h-11 px-0"
              aria-label="Delete last"
              onClick={() => type(entry.text.slice(0, -1))}
            >
              Del
            </Button>
          </div>
        </fieldset>
      )}
    </form>
  );
}

/** What was heard, best guess first; each guess has one text and its certainty. */
type Heard = ArrayLike<ArrayLike<Record<string, unknown>>>;

interface Recogniser {
  lang: string;
  onresult: ((event: { results: Heard }) => void) | null;
  onerror: (() => void) | null;
  start: () => void;
}

/** The browser's own dictation, where it has one. */
function speechInput(): (new () => Recogniser) | undefined {
  const host = window as unknown as Record<string, unknown>;
  return (host.SpeechRecognition ?? host.webkitSpeechRecognition) as (new () => Recogniser) | undefined;
}

/** One spoken phrase into the field; nothing is recorded by it. */
function listen(onText: (text: string) => void, onFailure: () => void) {
  const Recogniser = speechInput();
  if (!Recogniser) return;
  const recogniser = new Recogniser();
  recogniser.lang = "en";
  recogniser.onresult = (event) => onText(words(event.results));
  recogniser.onerror = onFailure;
  recogniser.start();
}

/** The text of the best guess. */
function words(heard: Heard): string {
  const best = heard[0]?.[0];
  for (const field in best) {
    if (typeof best[field] === "string") return best[field];
  }
  return "";
}
