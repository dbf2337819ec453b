import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type Schema, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { type Offered, offeredQuery, type Run } from "./calls";
import { LiveRun } from "./LiveRun";
import { begunHere } from "./ownRuns";

type Command = Offered["commands"][number];
type Step = Schema["StepIn"];

const FIELD = "mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink";
const BEFORE_S = 2;
const AFTER_S = 3;

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
  const [command, setCommand] = useState("");
  const [sequence, setSequence] = useState(0);
  const [channels, setChannels] = useState<string[] | null>(null);
  const [run, setRun] = useState<Run | null>(null);
  const offered = found.data;
  const item = offered?.commands.find((one) => one.id === command);
  const recorded = channels ?? offered?.data.map((one) => one.id) ?? [];
  const start = useMutation({
    mutationFn: () => {
      const body = {
        command,
        channels: recorded,
        steps: item && !item.hold ? (SEQUENCES[sequence]?.steps(item.positions) ?? []) : [],
        seconds: item ? AFTER_S : 60,
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
      {offered.reason ? (
        <p className="text-soft">{offered.reason}</p>
      ) : (
        <>
          <div className="grid max-w-3xl gap-3 text-sm text-soft sm:grid-cols-2">
            <label>
              Command
              <select className={FIELD} value={command} onChange={(event) => setCommand(event.target.value)}>
                <option value="">none, record live data for a minute</option>
                {offered.commands.map((one) => (
                  <option key={one.id} value={one.id}>
                    {one.title}, {one.module}
                  </option>
                ))}
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
          {item && <Told item={item} />}
          <fieldset className="mt-2">
            <legend className="text-sm text-soft">Recorded meanwhile</legend>
            <div className="flex flex-wrap gap-x-6">
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
          {start.error && (
            <Notice tone="problem">
              {start.error instanceof ApiError ? start.error.problem.detail : "The server does not answer."}
            </Notice>
          )}
          {canWrite && (
            <Button kind="next" className="mt-2" disabled={start.isPending} onClick={() => start.mutate()}>
              {item
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

/** What will move, the caution that belongs to it, and what the module asks for. */
function Told({ item }: { item: Command }) {
  return (
    <div className="mt-2 max-w-3xl">
      <p>
        {item.moves}
        {item.requires && <span className="text-soft"> The module asks for: {item.requires}.</span>}
      </p>
      {item.caution && <Notice tone="caution">{item.caution}</Notice>}
      {item.hold && (
        <p className="text-sm text-soft">
          It may hurt someone, so it runs only while you hold the button; let go and it stops.
        </p>
      )}
    </div>
  );
}
