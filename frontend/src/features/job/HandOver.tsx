import { useState } from "react";
import type { JobDetail } from "../../api/client";
import { useMe } from "../../api/session";
import { Button } from "../../ui/Button";
import { Picks } from "../../ui/Picks";
import { TextField } from "../../ui/TextField";
import { Estimate } from "../estimate/Estimate";
import { useAnswer } from "./useAnswer";

const DRIVE = [
  { key: "yes", title: "yes" },
  { key: "with limits", title: "with limits" },
  { key: "not until repaired", title: "not until repaired" },
  { key: "not known", title: "not known" },
];
const RESULTS = ["in order", "came back, same cause", "came back, another cause", "not reached"];
const URGENCIES = ["at once", "soon", "to be watched"];
const DECISIONS = ["advised", "accepted", "declined"];

/** What is said when the vehicle goes: why it failed, whether it may be driven, what else was seen, when to ask again; and the reports. */
export function HandOver({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const jobId = detail.job.id;
  const lead = useMe().data?.role === "lead";
  const day = useAnswer<string>(detail, "follow_up", "");
  const report = (reader: string) => `/api/v1/jobs/${jobId}/report?reader=${reader}`;
  return (
    <div className="grid gap-x-10 gap-y-6 px-5 py-4 lg:grid-cols-2">
      <div className="space-y-6">
        <h2 className="text-xl">Hand-over</h2>
        <MayDrive detail={detail} canWrite={canWrite} />
        <Words detail={detail} canWrite={canWrite} field="made_it_fail" label="What made it fail?" />
        <CauseRemoved detail={detail} canWrite={canWrite} />
        <Words detail={detail} canWrite={canWrite} field="not_done" label="What was not done?" />
      </div>
      <div className="space-y-6">
        <Defects detail={detail} canWrite={canWrite} />
        <section aria-label="Follow-up" className="space-y-3">
          <h2 className="text-xl">Follow-up</h2>
          <div className="flex flex-wrap items-end gap-3">
            <Day key={day.value} value={day.value} canWrite={canWrite} onDay={(value) => day.answer(value)} />
            {canWrite && day.value === "" && (
              <Button onClick={() => day.answer(inAWeek())}>A week from today</Button>
            )}
            {day.value !== "" && (
              <a
                className="min-h-11 py-2 underline underline-offset-4"
                href={`/api/v1/jobs/${jobId}/follow-up`}
              >
                For the calendar
              </a>
            )}
          </div>
          {day.problem && <p role="alert">{day.problem.detail}</p>}
          {day.value !== "" && <Result detail={detail} canWrite={canWrite} />}
        </section>
        <Estimate detail={detail} canWrite={canWrite} />
        <section aria-label="Reports" className="space-y-2">
          <h2 className="text-xl">Report</h2>
          {lead && (
            <Words
              detail={detail}
              canWrite={canWrite}
              field="customer_words"
              label="In your own words for the customer; what was computed stays beside it in the report for a colleague"
            />
          )}
          <p className="flex flex-wrap gap-x-6">
            <a
              className="min-h-11 py-2 underline underline-offset-4"
              href={report("customer")}
              target="_blank"
              rel="noreferrer"
            >
              For the customer (PDF)
            </a>
            <a
              className="min-h-11 py-2 underline underline-offset-4"
              href={report("colleague")}
              target="_blank"
              rel="noreferrer"
            >
              For a colleague, with every reading (PDF)
            </a>
            <a
              className="min-h-11 py-2 underline underline-offset-4"
              href={`/api/v1/jobs/${detail.job.id}/bundle`}
              download
            >
              Everything in open formats (job bundle, zip)
            </a>
          </p>
        </section>
      </div>
    </div>
  );
}

interface Part {
  detail: JobDetail;
  canWrite: boolean;
}

function MayDrive({ detail, canWrite }: Part) {
  const held = useAnswer<string>(detail, "may_drive", "");
  return (
    <section aria-label="May it be driven?" className="space-y-2">
      <h3 className="font-[650]">May it be driven?</h3>
      <Picks
        label="May it be driven?"
        single
        disabled={!canWrite || held.saving}
        options={DRIVE}
        chosen={held.value ? [held.value] : []}
        onChange={([value = ""]) => held.answer(value)}
      />
      {held.problem && <p role="alert">{held.problem.detail}</p>}
      <Words detail={detail} canWrite={canWrite} field="may_drive_why" label="Why, and with which limits" />
    </section>
  );
}

function CauseRemoved({ detail, canWrite }: Part) {
  const held = useAnswer<boolean | null>(detail, "cause_removed", null);
  return (
    <section aria-label="Is that removed?" className="space-y-2">
      <h3 className="font-[650]">Is that removed?</h3>
      <Picks
        label="Is that removed?"
        single
        disabled={!canWrite || held.saving}
        options={[
          { key: "yes", title: "yes" },
          { key: "no", title: "no, it can fail again" },
        ]}
        chosen={held.value === null ? [] : [held.value ? "yes" : "no"]}
        onChange={([value]) => held.answer(value === undefined ? null : value === "yes")}
      />
    </section>
  );
}

/** Text that is kept when the field is left. */
function Words({ detail, canWrite, field, label }: Part & { field: string; label: string }) {
  const held = useAnswer<string>(detail, field, "");
  const [typed, setTyped] = useState<string | null>(null);
  return (
    <TextField
      area
      rows={2}
      label={label}
      value={typed ?? held.value}
      disabled={!canWrite}
      maxLength={field === "customer_words" ? 2000 : 500}
      problem={held.problem?.detail}
      onChange={(event) => setTyped(event.target.value)}
      onBlur={() => {
        if (typed !== null && typed.trim() !== held.value) held.answer(typed);
        setTyped(null);
      }}
    />
  );
}

function Defects({ detail, canWrite }: Part) {
  const held = useAnswer<string[]>(detail, "defects", []);
  const [what, setWhat] = useState("");
  const change = (index: number, place: number, value: string) =>
    held.answer(
      held.value.map((line, at) => {
        if (at !== index) return line;
        const parts = line.split(" | ");
        parts[place] = value;
        return parts.join(" | ");
      }),
    );
  const add = () => {
    const text = what.trim().replaceAll("|", "/");
    if (text === "") return;
    held.answer([...held.value, `${text} | ${URGENCIES[1]} | ${DECISIONS[0]}`]);
    setWhat("");
  };
  return (
    <section aria-label="What else was seen" className="space-y-2">
      <h2 className="text-xl">What else was seen</h2>
      <ul>
        {held.value.map((line, index) => {
          const [defect = "", urgency = "", decision = ""] = line.split(" | ");
          return (
            <li key={line} className="flex flex-wrap items-center gap-2 border-t border-rule py-1">
              <span className="min-w-40 flex-1">{defect}</span>
              {[
                { place: 1, value: urgency, words: URGENCIES, label: "How urgent" },
                { place: 2, value: decision, words: DECISIONS, label: "Decided" },
              ].map((field) => (
                <select
                  key={field.label}
                  aria-label={`${field.label}: ${defect}`}
                  disabled={!canWrite || held.saving}
                  className="min-h-11 border border-ink/60 bg-raised px-2"
                  value={field.value}
                  onChange={(event) => change(index, field.place, event.target.value)}
                >
                  {field.words.map((word) => (
                    <option key={word}>{word}</option>
                  ))}
                </select>
              ))}
              {canWrite && (
                <Button
                  kind="quiet"
                  aria-label={`Take off the list: ${defect}`}
                  onClick={() => held.answer(held.value.filter((_, at) => at !== index))}
                >
                  take off
                </Button>
              )}
            </li>
          );
        })}
      </ul>
      {canWrite && (
        <form
          className="flex items-end gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            add();
          }}
        >
          <div className="flex-1">
            <TextField
              label="Another defect"
              value={what}
              maxLength={200}
              placeholder="front brake pads at 2 mm"
              onChange={(event) => setWhat(event.target.value)}
            />
          </div>
          <Button type="submit" disabled={what.trim() === "" || held.saving}>
            Add
          </Button>
        </form>
      )}
      {held.problem && <p role="alert">{held.problem.detail}</p>}
    </section>
  );
}

/** The day is kept once it is whole. */
function Day({ value, canWrite, onDay }: { value: string; canWrite: boolean; onDay: (day: string) => void }) {
  const [typed, setTyped] = useState(value);
  return (
    <TextField
      type="date"
      label="Ask whether it is still in order, on"
      value={typed}
      disabled={!canWrite}
      onChange={(event) => setTyped(event.target.value)}
      onBlur={() => typed !== value && onDay(typed)}
    />
  );
}

function Result({ detail, canWrite }: Part) {
  const held = useAnswer<string>(detail, "follow_up_result", "");
  return (
    <div className="space-y-1">
      <h3 className="font-[650]">How it went</h3>
      <Picks
        label="How it went"
        single
        disabled={!canWrite || held.saving}
        options={RESULTS.map((result) => ({ key: result, title: result }))}
        chosen={held.value ? [held.value] : []}
        onChange={([value = ""]) => held.answer(value)}
      />
      {held.problem && <p role="alert">{held.problem.detail}</p>}
    </div>
  );
}

function inAWeek(): string {
  const day = new Date(Date.now() + 7 * 24 * 3600 * 1000);
  return `${day.getFullYear()}-${String(day.getMonth() + 1).padStart(2, "0")}-${String(day.getDate()).padStart(2, "0")}`;
}
