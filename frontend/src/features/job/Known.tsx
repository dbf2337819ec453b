import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { api, type JobDetail, unwrap } from "../../api/client";
import { jobQuery, listsQuery } from "../../api/queries";
import { when } from "../../lib/format";
import { sendOnce } from "../../lib/keys";
import { useUnits } from "../../lib/units";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import {
  type FieldProps,
  NumberAnswer,
  OneOfAnswer,
  PickAnswer,
  Question,
  TextAnswer,
  Trouble,
} from "./Answers";
import { useAnswer } from "./useAnswer";

const REPRODUCED = [
  { key: "yes", title: "yes, seen it" },
  { key: "no", title: "tried, not seen" },
];

/** What is known of the job: every answer is evidence, is kept with its author, and can be given again. */
export function Known({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const { distance, temperature } = useUnits();
  const lists = useQuery(listsQuery);
  return (
    <section aria-label="What is known" className="space-y-4">
      {detail.warnings.map((warning) => (
        <Notice key={warning} tone="caution">
          {warning}
        </Notice>
      ))}
      <TextAnswer
        detail={detail}
        field="complaint"
        label="Complaint, in the customer's words"
        fallback={detail.job.complaint}
        canWrite={canWrite}
        rows={3}
      />
      {detail.symptoms.length > 0 && <Symptoms detail={detail} canWrite={canWrite} />}
      <PickAnswer
        detail={detail}
        field="conditions"
        label="When does it happen?"
        options={lists.data?.conditions ?? []}
        canWrite={canWrite}
      />
      <Reproduced detail={detail} canWrite={canWrite} />
      <RecentWork detail={detail} canWrite={canWrite} />
      <PickAnswer
        detail={detail}
        field="environment"
        label="Surroundings and visible damage"
        options={lists.data?.environments ?? []}
        canWrite={canWrite}
      />
      <div className="grid grid-cols-3 gap-3">
        <NumberAnswer detail={detail} field="battery_v" label="Battery, V, key off" canWrite={canWrite} />
        <NumberAnswer
          detail={detail}
          field="mileage_km"
          label={`Mileage, ${distance.label}`}
          unit={distance}
          fallback={detail.job.mileage_km}
          canWrite={canWrite}
        />
        <NumberAnswer
          detail={detail}
          field="temperature_c"
          label={`Part temperature, ${temperature.label}`}
          unit={temperature}
          placeholder={`not measured, ${temperature.show(detail.job.temperature_c)} assumed`}
          canWrite={canWrite}
        />
      </div>
      <OneOfAnswer
        detail={detail}
        field="starting"
        label="Switched on with"
        options={lists.data?.startings ?? []}
        fallback={detail.job.starting}
        canWrite={canWrite}
      />
      <Photos detail={detail} canWrite={canWrite} />
      <SecondOpinion detail={detail} canWrite={canWrite} />
      <details>
        <summary className="min-h-11 cursor-pointer py-2 font-[650]">Vehicle</summary>
        <div className="grid grid-cols-2 gap-3">
          {(
            [
              ["make", "Make", detail.job.make],
              ["model", "Model", detail.job.model],
              ["plate", "Plate", detail.job.plate],
              ["engine", "Engine", detail.job.engine],
              ["vin", "VIN", detail.job.vin],
            ] as const
          ).map(([field, label, value]) => (
            <TextAnswer
              key={field}
              detail={detail}
              field={field}
              label={label}
              fallback={value}
              canWrite={canWrite}
              rows={1}
            />
          ))}
          <NumberAnswer
            detail={detail}
            field="year"
            label="Year"
            fallback={detail.job.year}
            canWrite={canWrite}
          />
        </div>
        {detail.earlier.length > 0 && (
          <ul className="mt-3 border-t border-rule text-sm">
            {detail.earlier.map((job) => (
              <li key={job.id} className="border-b border-rule py-2">
                <Link to={`/jobs/${job.id}`} className="underline underline-offset-4">
                  Job {job.number}
                </Link>{" "}
                {when(job.at)}: {job.conclusion ?? job.complaint}
              </li>
            ))}
          </ul>
        )}
      </details>
    </section>
  );
}

function Reproduced({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const held = useAnswer<boolean | null>(detail, "reproduced", null);
  const chosen = held.value === null ? [] : [held.value ? "yes" : "no"];
  return (
    <Question label="Reproduced here?">
      <Picks
        label="Reproduced here?"
        single
        options={REPRODUCED}
        chosen={chosen}
        onChange={([key]) => held.answer(key === undefined ? null : key === "yes")}
        disabled={!canWrite}
      />
      <Trouble held={held} />
    </Question>
  );
}

function Symptoms({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const held = useAnswer<string[]>(detail, "symptoms", []);
  const [all, setAll] = useState(held.value.length === 0);
  const titles = new Map(detail.circuits.map((circuit) => [circuit.slug, circuit.title]));
  const options = detail.symptoms.filter((symptom) => all || held.value.includes(symptom.key));
  const causes = detail.symptoms.filter((symptom) => held.value.includes(symptom.key));
  return (
    <Question label="Symptoms; without any code these are enough to begin">
      <Picks
        label="Symptoms"
        options={options.map(({ key, title }) => ({ key, title }))}
        chosen={held.value}
        onChange={(value) => held.answer([...value].sort())}
        disabled={!canWrite}
      />
      <Button kind="quiet" className="text-sm" onClick={() => setAll(!all)} aria-expanded={all}>
        {all ? "Show only the symptoms noticed" : "More symptoms"}
      </Button>
      {causes.map((symptom) => (
        <p key={symptom.key} className="text-sm text-soft">
          {symptom.title}: can come from{" "}
          {[
            ...symptom.circuits.map((slug) => titles.get(slug)?.toLowerCase()),
            ...symptom.parts.map((part) => part.toLowerCase()),
          ].join(", ")}
          .
        </p>
      ))}
      <Trouble held={held} />
    </Question>
  );
}

function RecentWork({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  return (
    <Question label="What was replaced or worked on lately, and by whom?">
      <TextAnswer
        detail={detail}
        field="recent_work_text"
        label=""
        canWrite={canWrite}
        rows={1}
        placeholder="bumper off for paint, other shop"
      />
      <PartsAnswer
        detail={detail}
        field="recent_work"
        label="Add a part that was worked on"
        canWrite={canWrite}
      />
    </Question>
  );
}

/** Somebody else's diagnosis: what the readings answer to it stands on the diagnosis page. */
function SecondOpinion({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const given = ["opinion_by", "opinion_said", "opinion_parts"].some(
    (field) => (detail.answers[field]?.value as string | string[] | undefined)?.length,
  );
  return (
    <details open={given}>
      <summary className="min-h-11 cursor-pointer py-2 font-[650]">Second opinion</summary>
      <div className="space-y-3">
        <TextAnswer
          detail={detail}
          field="opinion_by"
          label="Whose diagnosis is it?"
          canWrite={canWrite}
          rows={1}
          placeholder="another workshop, the customer, a colleague"
        />
        <TextAnswer
          detail={detail}
          field="opinion_said"
          label="What did they conclude, and what have they bought?"
          canWrite={canWrite}
          rows={2}
          placeholder="module is bad; a new one lies in the boot"
        />
        <Question label="Parts they name">
          <PartsAnswer
            detail={detail}
            field="opinion_parts"
            label="Add a part they name"
            canWrite={canWrite}
          />
        </Question>
      </div>
    </details>
  );
}

/** Parts of the vehicle's circuits, picked one by one. */
function PartsAnswer({ detail, field, label, canWrite }: FieldProps) {
  const held = useAnswer<string[]>(detail, field, []);
  const names = new Map(detail.parts.map((part) => [part.id, part.title]));
  return (
    <>
      {detail.parts.length > 0 && (
        <div className="mt-2 flex flex-wrap gap-1.5">
          {held.value.map((part) => (
            <button
              key={part}
              type="button"
              disabled={!canWrite}
              aria-label={`${names.get(part) ?? part}, take off the list`}
              className="min-h-11 rounded-sm border border-ink bg-depth-2 px-3 text-sm font-[650]"
              onClick={() => held.answer(held.value.filter((item) => item !== part))}
            >
              ✓ {names.get(part) ?? part}
            </button>
          ))}
          {canWrite && (
            <select
              aria-label={label}
              className="min-h-11 max-w-64 rounded-sm border border-ink/60 bg-raised px-2 text-sm"
              value=""
              onChange={(event) => held.answer([...held.value, event.target.value].sort())}
            >
              <option value="">which part …</option>
              {detail.parts
                .filter((part) => !held.value.includes(part.id))
                .map((part) => (
                  <option key={part.id} value={part.id}>
                    {part.title}
                  </option>
                ))}
            </select>
          )}
        </div>
      )}
      <Trouble held={held} />
    </>
  );
}

function Photos({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const client = useQueryClient();
  const input = useRef<HTMLInputElement>(null);
  const add = useMutation({
    mutationFn: (file: File) =>
      sendOnce(["photo", detail.job.id, file.name, file.size, file.lastModified], async (key) => {
        const form = new FormData();
        form.set("client_key", key);
        form.set("caption", "");
        form.set("picture", file);
        return unwrap(
          await api.POST("/api/v1/jobs/{job_id}/photos", {
            params: { path: { job_id: detail.job.id } },
            // The generated type says text where a file goes.
            body: form as never,
            bodySerializer: (body: unknown) => body as FormData,
          }),
        );
      }),
    onSuccess: (answer) => client.setQueryData(jobQuery(detail.job.id).queryKey, answer),
  });
  return (
    <Question label="Photographs: damage before it is touched">
      <div className="flex flex-wrap gap-2">
        {detail.photos.map((photo) => (
          <a
            key={photo.id}
            href={`/api/v1/jobs/${detail.job.id}/photos/${photo.id}`}
            target="_blank"
            rel="noreferrer"
          >
            <img
              src={`/api/v1/jobs/${detail.job.id}/photos/${photo.id}?size=thumbnail`}
              alt={photo.caption || `taken ${when(photo.at)}`}
              className="h-20 w-20 rounded-sm border border-rule object-cover"
            />
          </a>
        ))}
        {canWrite && (
          <>
            <input
              ref={input}
              type="file"
              accept="image/jpeg,image/png,image/webp"
              capture="environment"
              className="sr-only"
              tabIndex={-1}
              aria-label="Photograph"
              onChange={(event) => {
                const file = event.target.files?.[0];
                if (file) add.mutate(file);
                event.target.value = "";
              }}
            />
            <Button onClick={() => input.current?.click()} disabled={add.isPending}>
              {add.isPending ? "Saving …" : "Add a photograph"}
            </Button>
          </>
        )}
      </div>
      {add.error && <Notice tone="problem">{add.error.message}</Notice>}
    </Question>
  );
}
