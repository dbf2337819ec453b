import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { ApiError, api, type Schema, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { loggedMeter, type Offered, offeredQuery, type Run } from "./calls";
import { LiveRun } from "./LiveRun";
import { begunHere } from "./ownRuns";

type Command = Offered["commands"][number];
type Routine = Offered["routines"][number];
type Step = Schema["StepIn"];

const FIELD = "mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink";
const BEFORE_S = 2;
const AFTER_S = 3;
const OBD_AT_ONCE = 6;

/** Sequences that make sense for a command that need not be held: a rest first, so that what was before is seen. */
const SEQUENCES: { name: string; steps: (positions: string[]) => Step[] }[] = [
  {
    name: "Once, for 5 seconds",
    steps: ([rest = "", on = ""]) => [
      { position: rest, seconds: BEFORE_S },
      { position: on, seconds: 5 },
    ],
  },
  {
    name: "Five times, one second each",
    steps: ([rest = "", on = ""]) => [
      { position: rest, seconds: BEFORE_S },
      ...Array.from({ length: 5 }, () => [
        { position: on, seconds: 1 },
        { position: rest, seconds: 1 },
      ]).flat(),
    ],
  },
  {
    name: "Every position in turn, 3 seconds each",
    steps: (positions) => [
      { position: positions[0] ?? "", seconds: BEFORE_S },
      ...positions.slice(1).map((position) => ({ position, seconds: 3 })),
      ...positions
        .slice(0, -1)
        .reverse()
        .map((position) => ({ position, seconds: 3 })),
    ],
  },
  {
    name: "Held for a minute",
    steps: ([rest = "", on = ""]) => [
      { position: rest, seconds: BEFORE_S },
      { position: on, seconds: 60 },
    ],
  },
];
const OUTCOMES: Record<string, string> = {
  ended: "works",
  stopped: "works",
  refused: "refused",
  lost: "lost the vehicle",
};

/** Command something on the vehicle and record what follows, or record live data only. */
export function CommandPanel({ jobId, canWrite }: { jobId: string; canWrite: boolean }) {
  const client = useQueryClient();
  const found = useQuery(offeredQuery(jobId));
  const [params] = useSearchParams();
  const asked = params.get("routine");
  const [chosen, setChosen] = useState<string | null>(null);
  const [sequence, setSequence] = useState(0);
  const [channels, setChannels] = useState<string[] | null>(null);
  const [run, setRun] = useState<Run | null>(null);
  const offered = found.data;
  // Coming from a proposal, what it asks for is chosen already.
  const wanted = offered?.commands.find((one) => one.control === params.get("control"));
  const said = chosen ?? (asked ? `routine:${asked}` : wanted ? `command:${wanted.id}` : "");
  const item = offered?.commands.find((one) => `command:${one.id}` === said);
  const routine = offered?.routines.find((one) => `routine:${one.id}` === said);
  const meter = loggedMeter(params);
  const [metered, setMetered] = useState(true);
  const logged = meter && metered ? meter : null;
  // Whoever comes to log the meter is not surprised by the vehicle's data beside it.
  const recorded = channels ?? (meter ? [] : usual(offered?.data ?? [], (item ?? routine)?.module));
  const start = useMutation({
    mutationFn: () => {
      const body = {
        command: item?.id ?? "",
        routine: routine?.id ?? "",
        channels: recorded,
        steps: item && !item.hold ? (SEQUENCES[sequence]?.steps(item.positions) ?? []) : [],
        seconds: item ? AFTER_S : 60,
        meter: logged,
      };
      return sendOnce(["run", jobId, body, Date.now()], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/commands", {
            params: { path: { job_id: jobId } },
            body: { client_key, ...body },
          }),
        ),
      );
    },
    onSuccess: (begun) => {
      begunHere(begun.id);
      setRun(begun);
    },
  });
  if (!offered) return null;
  const going = run ?? offered.running;
  if (going)
    return (
      <LiveRun
        key={going.id}
        run={going}
        item={offered.commands.find((one) => one.id === going.command)}
        routine={offered.routines.find((one) => `routine:${one.id}` === going.command)}
        canWrite={canWrite}
        onDone={() => {
          setRun(null);
          start.reset();
          client.invalidateQueries({ queryKey: ["commands", jobId] });
          client.invalidateQueries({ queryKey: ["recordings", jobId] });
        }}
      />
    );
  return (
    <section aria-label="Command and record" className="mb-6 border-b border-rule pb-4">
      <h2 className="mb-1 text-xl">Command and record</h2>
      {offered.reason && !meter ? (
        <p className="text-soft">{offered.reason}</p>
      ) : (
        <>
          <div className="grid max-w-3xl gap-3 text-sm text-soft sm:grid-cols-2">
            <label>
              Command or routine
              <select className={FIELD} value={said} onChange={(event) => setChosen(event.target.value)}>
                <option value="">none, record for a minute</option>
                <optgroup label="Commands">
                  {offered.commands.map((one) => (
                    <option key={one.id} value={`command:${one.id}`}>
                      {one.title}, {one.module}
                    </option>
                  ))}
                </optgroup>
                <optgroup label="Routines: the module carries them out by itself">
                  {offered.routines.map((one) => (
                    <option key={one.id} value={`routine:${one.id}`}>
                      {one.title}, {one.module}
                    </option>
                  ))}
                </optgroup>
              </select>
            </label>
            {item && !item.hold && (
              <label>
                Sequence
                <select
                  className={FIELD}
                  value={sequence}
                  onChange={(event) => setSequence(Number(event.target.value))}
                >
                  {SEQUENCES.map((one, index) => (
                    <option key={one.name} value={index}>
                      {one.name}
                    </option>
                  ))}
                </select>
              </label>
            )}
          </div>
          {item && <Told item={item} hold={item.hold} />}
          {routine && <Told item={routine} hold={false} />}
          {meter && (
            <p className="mt-2 max-w-3xl text-sm text-soft">
              Hold the probes at {meter.red} and {meter.black} and leave them there. The meter is asked as
              fast as it answers; what is recorded belongs to this test, and an overload leaves a gap.
            </p>
          )}
          {canWrite && !offered.reason && (
            <AskObd jobId={jobId} known={offered.data.some((one) => one.module === "OBD")} />
          )}
          <fieldset className="mt-2">
            <legend className="text-sm text-soft">Recorded meanwhile</legend>
            <div className="flex flex-wrap gap-x-6">
              {meter && (
                <label className="flex min-h-11 items-center gap-2" data-meter-channel>
                  <input
                    type="checkbox"
                    className="size-5"
                    checked={metered}
                    onChange={() => setMetered(!metered)}
                  />
                  Bench meter, {meter.instrument.replace("-", " ")}, {meter.red} to {meter.black}
                </label>
              )}
              {offered.data.map((one) => (
                <label key={one.id} className="flex min-h-11 items-center gap-2">
                  <input
                    type="checkbox"
                    className="size-5"
                    checked={recorded.includes(one.id)}
                    onChange={() =>
                      setChannels(
                        recorded.includes(one.id)
                          ? recorded.filter((id) => id !== one.id)
                          : [...recorded, one.id],
                      )
                    }
                  />
                  {one.title} <span className="text-soft">{one.unit}</span>
                </label>
              ))}
            </div>
          </fieldset>
          {item && item.locked_by.length > 0 && (
            <div className="mt-2 max-w-3xl">
              <Notice tone="caution">
                {item.locked_by.join(" and ")} stored: {item.module} keeps to its default reaction and refuses
                this until that is cleared.{" "}
                <Link className="underline underline-offset-4" to={`/jobs/${jobId}`}>
                  Read out and clear the codes
                </Link>{" "}
                first, then command before it comes back.
              </Notice>
            </div>
          )}
          {start.error && (
            <Notice tone="problem">
              {start.error instanceof ApiError ? start.error.problem.detail : "The server does not answer."}
            </Notice>
          )}
          {canWrite && (
            <Button
              kind="next"
              className="mt-2"
              disabled={start.isPending || (!item && !routine && recorded.length === 0 && !logged)}
              onClick={() => start.mutate()}
            >
              {routine
                ? "Start the routine"
                : item
                  ? item.hold
                    ? "Connect, then hold to run"
                    : `Command ${item.title.toLowerCase()}`
                  : "Record"}
            </Button>
          )}
        </>
      )}
      {offered.coverage.length > 0 && (
        <p className="mt-3 max-w-3xl text-sm text-soft">
          On this make and model so far:{" "}
          {offered.coverage
            .map((one) => `${one.module} ${one.title} ${OUTCOMES[one.state] ?? one.state} (${one.times}×)`)
            .join("; ")}
          .
        </p>
      )}
    </section>
  );
}

/** What is recorded unless somebody chooses: what the commanded module tells, else what belongs to the circuits, or a few OBD figures where nothing else is known. */
function usual(data: Offered["data"], module: string | undefined): string[] {
  const ofModule = data.filter((one) => one.module === module);
  const own = ofModule.length > 0 ? ofModule : data.filter((one) => one.module !== "OBD");
  return (own.length > 0 ? own : data.slice(0, OBD_AT_ONCE)).map((one) => one.id);
}

/** What will move, the caution that belongs to it, and what the module asks for. */
function Told({ item, hold }: { item: Command | Routine; hold: boolean }) {
  return (
    <div className="mt-2 max-w-3xl">
      <p>
        {item.moves}
        {item.requires && <span className="text-soft"> The module asks for: {item.requires}.</span>}
      </p>
      {item.caution && <Notice tone="caution">{item.caution}</Notice>}
      {hold && (
        <p className="text-sm text-soft">
          It may hurt someone, so it runs only while you hold the button; let go and it stops.
        </p>
      )}
    </div>
  );
}

/** Asks the vehicle which figures it offers to every scan tool; needs no description of it. */
function AskObd({ jobId, known }: { jobId: string; known: boolean }) {
  const client = useQueryClient();
  const ask = useMutation({
    mutationFn: () =>
      sendOnce(["obd", jobId, Date.now()], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/readiness", {
            params: { path: { job_id: jobId } },
            body: { client_key },
          }),
        ),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["commands", jobId] }),
  });
  return (
    <div className="mt-2">
      <Button disabled={ask.isPending} onClick={() => ask.mutate()}>
        {ask.isPending
          ? "Asking …"
          : known
            ? "Ask again which OBD figures it offers"
            : "Ask which OBD figures it offers"}
      </Button>
      {ask.error && (
        <Notice tone="problem">
          {ask.error instanceof ApiError ? ask.error.problem.detail : "The server does not answer."}
        </Notice>
      )}
    </div>
  );
}
