import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link } from "react-router";
import { api, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import type { Line, Offered, Run } from "./calls";
import { Lanes } from "./Lanes";
import { isOwn } from "./ownRuns";
import { Strip } from "./Strip";

const LOOK_MS = 350;
const SIGN_MS = 250;
const SEEN_S = 20;
const STRIP_HEIGHT = 120;
const NOTICED = ["It moves", "It clicks", "Weak", "Nothing", "Not looked"];

interface Taken {
  channels: { name: string; unit: string }[];
  t: number[];
  rows: (number | null)[][];
  lane: { at_s: number; position: string }[];
}

/** A run while it goes on: strips that grow, a large button to stop or to hold, and afterwards what it did. */
export function LiveRun(props: {
  run: Run;
  item: Offered["commands"][number] | undefined;
  routine: Offered["routines"][number] | undefined;
  canWrite: boolean;
  onDone: () => void;
}) {
  const [run, setRun] = useState(props.run);
  const [taken, setTaken] = useState<Taken>({ channels: [], t: [], rows: [], lane: [] });
  const [lost, setLost] = useState(false);
  const box = useRef<HTMLElement>(null);
  const own = isOwn(run.id) && props.canWrite;
  const going = run.state === "running";
  useFollowed(run.id, going, setRun, setTaken, setLost);
  const [held, setHeld] = useSigns(run, going && own);
  const path = { params: { path: { run_id: run.id } } };
  const stop = useMutation({
    mutationFn: async () => unwrap(await api.POST("/api/v1/command-runs/{run_id}/stop", path)),
    onSuccess: setRun,
  });
  const notice = useMutation({
    mutationFn: async (found: string) =>
      unwrap(await api.POST("/api/v1/command-runs/{run_id}/found", { ...path, body: { found } })),
    onSuccess: setRun,
  });
  const end = taken.t.at(-1) ?? 0.1;
  const span = [Math.max(0, end - SEEN_S), Math.max(end, 1)] as const;
  const width = Math.max(300, (box.current?.clientWidth ?? 800) - 16);
  return (
    <section ref={box} aria-label="Running command" className="mb-6 border-b border-rule pb-4">
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h2 className="text-xl">{run.title}</h2>
        <span role="status" className="text-soft" data-run-state={run.state}>
          {going
            ? lost
              ? "The server does not answer; the command ends by itself."
              : `${run.position || (taken.t.length ? "recording" : "connecting")}, ${end.toFixed(1)} s`
            : props.routine && run.state === "ended"
              ? "Ended."
              : SAID[run.state]}
        </span>
        {going && props.canWrite && (
          <Button kind="next" className="min-w-32 text-lg" onClick={() => stop.mutate()}>
            Stop
          </Button>
        )}
      </div>
      {(props.item ?? props.routine)?.caution && going && (
        <Notice tone="caution">{(props.item ?? props.routine)?.caution}</Notice>
      )}
      {props.routine && !going && run.found !== "" && <Result run={run} routine={props.routine} />}
      {run.hold && going && own && <HoldButton held={held} onHeld={setHeld} />}
      {run.hold && going && !own && <p className="text-soft">Another tablet holds this command.</p>}
      {run.said && !going && (
        <Notice tone={run.state === "lost" || run.state === "refused" ? "problem" : "note"}>
          {run.said}
        </Notice>
      )}
      {taken.lane.length > 0 && (
        <Lanes
          lanes={[{ name: run.title, changes: taken.lane, tie: null }]}
          span={span}
          end={end}
          width={width}
        />
      )}
      {taken.channels.map((channel, index) => (
        <div key={channel.name}>
          <p className="pl-2 text-sm">
            {channel.name}{" "}
            <span className="figure text-lg">
              {taken.rows.at(-1)?.[index]?.toFixed(2)} {channel.unit}
            </span>
          </p>
          <Strip
            name={channel.name}
            unit={channel.unit}
            line={column(taken, index)}
            shown={{ span, a: null, b: null, marks: [], lit: null }}
            width={width}
            height={STRIP_HEIGHT}
            times={index === taken.channels.length - 1}
            theme={document.documentElement.dataset.theme ?? "light"}
            onZoom={() => {}}
            onPlace={() => {}}
            onWheel={() => {}}
          />
        </div>
      ))}
      {!going && (
        <div className="mt-2">
          {run.command && !props.routine && props.canWrite && (
            <fieldset className="mb-2 flex flex-wrap items-center gap-2">
              <legend className="mb-1 text-sm text-soft">What did you notice?</legend>
              {NOTICED.map((word) => (
                <Button key={word} aria-pressed={run.found === word} onClick={() => notice.mutate(word)}>
                  {run.found === word ? `${word}, kept` : word}
                </Button>
              ))}
            </fieldset>
          )}
          {props.canWrite && !props.routine && run.found !== "" && <CountIt key={run.found} run={run} />}
          <span className="flex flex-wrap items-center gap-4">
            <Link
              to={`/recordings/${run.recording_id}`}
              className="flex min-h-11 items-center underline underline-offset-4"
            >
              Read off the recording
            </Link>
            <Button onClick={props.onDone}>Done</Button>
          </span>
        </div>
      )}
    </section>
  );
}

/** How a routine ended, in the module's own result. */
function Result({ run, routine }: { run: Run; routine: Offered["routines"][number] }) {
  const good = run.found === routine.success;
  return (
    <p className="my-2 text-lg" data-routine-result={run.found}>
      {good ? "✓" : "✕"} {routine.module} says: <strong className="font-[650]">{run.found}</strong>
      {!good && <span className="text-soft">. Find out why before it is left out or tried again.</span>}
    </p>
  );
}

const SAID: Record<Run["state"], string> = {
  running: "",
  ended: "Ended; control was given back.",
  stopped: "Stopped; control was given back.",
  refused: "Refused.",
  lost: "The vehicle was lost.",
};

/** What a command told counts in a circuit that is being tested: of a part that answers it, and of the module that carried it out. */
function CountIt({ run }: { run: Run }) {
  const client = useQueryClient();
  const path = { params: { path: { run_id: run.id } } };
  const parts = useQuery({
    queryKey: ["command-parts", run.id],
    queryFn: async () => unwrap(await api.GET("/api/v1/command-runs/{run_id}/parts", path)),
  });
  const count = useMutation({
    mutationFn: (one: { diagnosis_id: string; part: string }) =>
      sendOnce(["check", run.id, run.found, one], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/command-runs/{run_id}/reading", {
            ...path,
            body: { client_key, diagnosis_id: one.diagnosis_id, part: one.part },
          }),
        ),
      ),
    onSuccess: (answer) => client.invalidateQueries({ queryKey: ["measuring", answer.diagnosis_id] }),
  });
  if (!parts.data?.parts.length) return null;
  return (
    <div className="mb-2">
      <p className="text-sm text-soft">Count it as a check of</p>
      <span className="flex flex-wrap items-center gap-2">
        {parts.data.parts.map((one) => (
          <Button
            key={`${one.diagnosis_id} ${one.part}`}
            disabled={count.isPending}
            onClick={() => count.mutate(one)}
          >
            {one.title}
          </Button>
        ))}
        {count.data && (
          <Link to={`/measure/${count.data.diagnosis_id}`} className="underline underline-offset-4">
            It counts: see what it did
          </Link>
        )}
      </span>
      {count.error && <Notice tone="problem">{count.error.message}</Notice>}
    </div>
  );
}

function column(taken: Taken, index: number): Line {
  // A meter that shows no figure leaves a gap.
  const there = taken.rows.map((row, n) => [taken.t[n] ?? 0, row[index]] as const);
  const seen = there.filter((one): one is readonly [number, number] => typeof one[1] === "number");
  const y = seen.map(([, figure]) => figure);
  return { channel: index, t: seen.map(([at]) => at), least: y, greatest: y };
}

/** A button that commands only while it is pressed, by finger, mouse or the space bar. */
function HoldButton({ held, onHeld }: { held: boolean; onHeld: (held: boolean) => void }) {
  const press = (down: boolean) => () => onHeld(down);
  return (
    <button
      type="button"
      className={`my-2 block min-h-20 w-full max-w-xl touch-none rounded-sm border-2 border-ink text-xl select-none ${held ? "bg-depth-4" : "bg-raised"}`}
      aria-pressed={held}
      onPointerDown={(event) => {
        event.currentTarget.setPointerCapture(event.pointerId);
        onHeld(true);
      }}
      onPointerUp={press(false)}
      onPointerCancel={press(false)}
      onLostPointerCapture={press(false)}
      onKeyDown={(event) => (event.key === " " || event.key === "Enter") && onHeld(true)}
      onKeyUp={press(false)}
      onBlur={press(false)}
      onContextMenu={(event) => event.preventDefault()}
    >
      {held ? "Running: let go to stop" : "Hold to run"}
    </button>
  );
}

/** Looks at the run again and again, and takes over what was recorded since. */
function useFollowed(
  runId: string,
  going: boolean,
  setRun: (run: Run) => void,
  setTaken: (next: (now: Taken) => Taken) => void,
  setLost: (lost: boolean) => void,
): void {
  const next = useRef(0);
  useEffect(() => {
    if (!going) return;
    let over = false;
    const look = async () => {
      try {
        const found = unwrap(
          await api.GET("/api/v1/command-runs/{run_id}", {
            params: { path: { run_id: runId }, query: { first: next.current } },
          }),
        );
        if (over) return;
        setLost(false);
        next.current = found.next_piece || next.current;
        setTaken((now) => ({
          channels: found.channels.length ? found.channels : now.channels,
          t: [...now.t, ...found.t],
          rows: [...now.rows, ...found.rows],
          lane: [...now.lane, ...found.lane],
        }));
        setRun(found.run);
        if (found.run.state !== "running") return;
      } catch {
        if (!over) setLost(true);
      }
      if (!over) timer = setTimeout(look, LOOK_MS);
    };
    let timer = setTimeout(look, 0);
    return () => {
      over = true;
      clearTimeout(timer);
    };
  }, [runId, going, setRun, setTaken, setLost]);
}

/** Tells the server that this page is still there, and whether a finger holds the command. */
function useSigns(run: Run, active: boolean): [boolean, (held: boolean) => void] {
  const [held, setHeld] = useState(false);
  const latest = useRef(held);
  latest.current = held;
  const number = useRef(Date.now());
  useEffect(() => {
    if (!active) return;
    const tell = () => {
      api
        .POST("/api/v1/command-runs/{run_id}/hold", {
          params: { path: { run_id: run.id } },
          body: { held: run.hold ? latest.current : null, number: ++number.current },
        })
        .catch(() => {}); // without a sign the command ends by itself
    };
    const timer = setInterval(tell, SIGN_MS);
    return () => clearInterval(timer);
  }, [run.id, run.hold, active]);
  const changed = (now: boolean) => {
    if (now === latest.current || !active) return;
    setHeld(now);
    latest.current = now;
    api
      .POST("/api/v1/command-runs/{run_id}/hold", {
        params: { path: { run_id: run.id } },
        body: { held: now, number: ++number.current },
      })
      .catch(() => {});
  };
  return [held, changed];
}
