import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import {
  ApiError,
  api,
  type Bench,
  type Circuit,
  type Proposal,
  type Schema,
  type TestIn,
  unwrap,
} from "../../api/client";
import { benchQuery, circuitQuery, previewQuery } from "../../api/queries";
import { useMe } from "../../api/session";
import { Headline } from "../../app/Headline";
import { minutes, percent } from "../../lib/format";
import { AskDialog } from "../../ui/AskDialog";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { useJobEvents } from "../intake/useJobEvents";
import { CircuitDrawing } from "./CircuitDrawing";
import { EntryField } from "./EntryField";
import { OutcomeTable, ProposalCard } from "./ProposalCard";
import { ReadingsList } from "./ReadingsList";
import { SetupBar } from "./SetupBar";
import { Suspects } from "./Suspects";
import { ThreeWayField } from "./ThreeWayField";
import { useReadings } from "./useReadings";

/** The bench: what do I measure next, and what did it tell me? */
export function BenchPage() {
  const { chaseId = "" } = useParams();
  const bench = useQuery(benchQuery(chaseId));
  const circuit = useQuery(circuitQuery(bench.data?.chase.circuit_version_id));
  useJobEvents(bench.data?.job.id);
  const failed = bench.error ?? circuit.error;
  if (failed) {
    return (
      <main className="mx-auto max-w-3xl p-6">
        <h1 className="mb-3 text-2xl">This bench cannot be opened</h1>
        <Notice tone="problem">
          {failed.message} What was recorded is kept. Reload when the server is back, or go to the jobs.
        </Notice>
      </main>
    );
  }
  if (!bench.data || !circuit.data) {
    return (
      <main className="p-6" aria-busy="true">
        Working out what every reading would be under every fault …
      </main>
    );
  }
  return <OpenBench key={chaseId} bench={bench.data} circuit={circuit.data} />;
}

type Reading = Bench["readings"][number];
type ExclusionIn = Schema["ExclusionIn"];

function asTest(proposal: Proposal): TestIn {
  const { instrument, red, black, setup } = proposal.test;
  return { instrument, red, black, setup: { controls: setup.controls, unplugged: setup.unplugged } };
}

function OpenBench({ bench, circuit }: { bench: Bench; circuit: Circuit }) {
  const chaseId = bench.chase.id;
  const client = useQueryClient();
  const navigate = useNavigate();
  const input = useRef<HTMLInputElement>(null);
  const [entry, setEntry] = useState("");
  const [chosen, setChosen] = useState(0);
  const [own, setOwn] = useState<TestIn | null>(null);
  const [nextLead, setNextLead] = useState<"red" | "black">("red");
  const [changing, setChanging] = useState(false);
  const [asking, setAsking] = useState<Reading | null>(null);
  const [source, setSource] = useState<"typed" | "meter">("typed");
  const [meterId, setMeterId] = useState(() => localStorage.getItem("sondar-meter") ?? "");
  const queue = useReadings(chaseId);
  const canWrite = useMe().data?.role !== "read-only";
  const preview = useQuery(previewQuery(chaseId, own, bench.assessment.effects.length));
  const { proposals, verdict } = bench.assessment;
  const proposed = proposals[Math.min(chosen, proposals.length - 1)];
  const shown = own ? preview.data : proposed;
  const test = own ?? (proposed ? asTest(proposed) : null);

  const take = useCallback(
    (answer: Bench) => {
      client.setQueryData(benchQuery(chaseId).queryKey, answer);
      client.invalidateQueries({ queryKey: ["jobs"] });
    },
    [client, chaseId],
  );
  const retract = useMutation({
    mutationFn: async ({ reading, reason }: { reading: Reading; reason: string }) =>
      unwrap(
        await api.POST("/api/v1/chases/{chase_id}/readings/{reading_id}/retraction", {
          params: { path: { chase_id: chaseId, reading_id: reading.id } },
          body: { client_key: crypto.randomUUID(), reason },
        }),
      ),
    onSuccess: take,
  });
  const exclude = useMutation({
    mutationFn: async (body: Omit<ExclusionIn, "client_key">) =>
      unwrap(
        await api.POST("/api/v1/chases/{chase_id}/exclusions", {
          params: { path: { chase_id: chaseId } },
          body: { client_key: crypto.randomUUID(), ...body },
        }),
      ),
    onSuccess: (answer) => {
      take(answer);
      setChosen(0);
    },
  });
  const meter = useMutation({
    mutationFn: async (body: TestIn) =>
      unwrap(
        await api.POST("/api/v1/chases/{chase_id}/meter", { params: { path: { chase_id: chaseId } }, body }),
      ),
    onSuccess: ({ entry: text }) => {
      setEntry(text);
      setSource("meter");
      input.current?.focus();
    },
  });
  const call = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/v1/chases/{chase_id}/verdict", {
          params: { path: { chase_id: chaseId } },
          body: { client_key: crypto.randomUUID() },
        }),
      ),
    onSuccess: (answer) => {
      take(answer);
      navigate(`/bench/${chaseId}/verdict`);
    },
  });

  const record = (text: string) => {
    if (!test) return;
    queue.add({
      ...test,
      client_key: crypto.randomUUID(),
      entry: text,
      source,
      note: "",
      meter_id: meterId || null,
    });
    setEntry("");
    setSource("typed");
    setOwn(null);
    setChosen(0);
    input.current?.focus();
  };
  // A refused entry comes back into the field: nothing typed is lost.
  useEffect(() => {
    if (queue.refused) setEntry(queue.refused.entry);
  }, [queue.refused]);

  const cannotReach = () => {
    if (!test) return;
    const point = circuit.points.find((item) => item.ref === test.red);
    exclude.mutate({
      kind: "point",
      name: point?.place && point.place !== "body" ? point.place : test.red,
      excluded: true,
    });
  };
  const lastStanding = [...bench.readings].reverse().find((reading) => reading.retracted_because === null);
  const choose = (step: number) => {
    setOwn(null);
    setChosen((now) => (now + step + proposals.length) % Math.max(1, proposals.length));
  };

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || asking) return;
      const target = event.target as HTMLElement;
      const inEntry = target === input.current;
      if (!inEntry && /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) return;
      if (event.key === "Escape") {
        setEntry("");
        setOwn(null);
        queue.forgetRefusal();
        return;
      }
      if (entry === "") {
        const commands: Record<string, () => void> = {
          r: () => test && bench.meter && meter.mutate(test),
          x: cannotReach,
          z: () => lastStanding && setAsking(lastStanding),
          s: () => setChanging((on) => !on),
          v: () => call.mutate(),
        };
        const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
        const command = step ? () => choose(step) : commands[event.key];
        // Inside a group of choices the arrows belong to the group.
        if (command && !(event.key.startsWith("Arrow") && target.getAttribute("role") === "radio")) {
          event.preventDefault();
          command();
          return;
        }
      }
      if (!inEntry && event.key.length === 1 && !(event.key === " " && target.tagName === "BUTTON"))
        input.current?.focus();
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  });
  useEffect(() => input.current?.focus(), []);

  const change = (made: TestIn) => {
    setOwn(made);
    setEntry("");
  };
  const placeLead = (ref: string) => {
    const leads = circuit.instruments.find((item) => item.id === test?.instrument)?.leads;
    // What looks without leads cannot be put on a point: the tap means the voltmeter, in the same set-up.
    const base =
      test && leads
        ? test
        : {
            instrument: "voltmeter",
            red: ref,
            black: circuit.black_reference,
            setup: test?.setup ?? { controls: {}, unplugged: [] },
          };
    // A first tap starts a test of one's own: the black lead goes back to its usual place.
    const untouched = !own || (proposed?.test.red === own.red && proposed.test.black === own.black);
    const keepBlack = !untouched && base.black !== ref;
    if (nextLead === "black" && ref !== base.red) {
      change({ ...base, black: ref });
      setNextLead("red");
    } else {
      change({
        ...base,
        red: ref,
        black: keepBlack ? base.black : circuit.black_reference,
      });
    }
  };
  const toggleConnector = (connector: string) => {
    if (!test) return;
    const apart = test.setup.unplugged ?? [];
    const unplugged = apart.includes(connector)
      ? apart.filter((item) => item !== connector)
      : [...apart, connector];
    change({ ...test, setup: { ...test.setup, unplugged } });
  };

  const device = circuit.instruments.find((item) => item.id === test?.instrument);
  const refusal = queue.refused?.problem.detail ?? null;
  const previewProblem = own && preview.error instanceof ApiError ? preview.error.problem.detail : null;
  const trouble = [retract.error, exclude.error, meter.error, call.error].find(Boolean);

  return (
    <main className="grid h-full grid-cols-1 md:grid-cols-[minmax(340px,1fr)_minmax(0,1.25fr)] xl:grid-cols-[400px_minmax(0,1fr)_310px]">
      <Headline>
        <div className="flex flex-wrap items-baseline gap-x-4 text-sm leading-tight">
          <h1 className="text-lg">
            <Link
              to={`/jobs/${bench.job.id}`}
              className="inline-flex min-h-6 underline-offset-4 hover:underline"
            >
              {bench.job.plate || `Job ${bench.job.number}`}
            </Link>
          </h1>
          <span className="min-w-0 flex-1 truncate text-soft" title={bench.job.complaint}>
            {bench.job.make} {bench.job.model}. {bench.job.codes && <strong>{bench.job.codes}. </strong>}
            {bench.job.complaint}
          </span>
          <span className="font-[600]">Now: {bench.assessment.setup.text}</span>
        </div>
      </Headline>

      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        className="order-2 overflow-auto border-r border-rule px-2 py-2 md:order-1 md:row-span-2 xl:row-span-1"
        aria-label="Circuit"
      >
        <h2 className="px-2 text-sm text-soft">
          {circuit.title}, feed to ground. Tap a point for the {nextLead} lead
          <button
            type="button"
            className="ml-2 min-h-6 underline underline-offset-4"
            onClick={() => setNextLead(nextLead === "red" ? "black" : "red")}
          >
            {nextLead === "red" ? "black instead" : "red instead"}
          </button>
        </h2>
        <CircuitDrawing
          circuit={circuit}
          bench={bench}
          test={test}
          onPoint={placeLead}
          onConnector={toggleConnector}
        />
      </section>

      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        className="order-1 flex min-h-0 flex-col gap-3 overflow-auto px-4 py-3 md:order-2"
      >
        {trouble && <Notice tone="problem">{trouble.message}</Notice>}
        {verdict.settled && !own && (
          <section aria-label="Verdict due" className="border-l-4 border-next bg-raised px-3 py-2">
            <h2 className="text-xl leading-snug">{verdict.sentence}</h2>
            <p className="mb-2 text-sm text-soft">Measuring has done its work: {verdict.reason}.</p>
            <Button kind="next" onClick={() => call.mutate()} disabled={call.isPending}>
              Call the verdict (V)
            </Button>
          </section>
        )}
        {shown ? (
          <ProposalCard proposal={shown} circuit={circuit} own={own !== null} due={verdict.settled && !own} />
        ) : own ? (
          <OwnTest test={own} problem={previewProblem} />
        ) : (
          <Notice tone="note">
            No test is left with the points and tools at hand. Bring one back below, or call the verdict as it
            stands.
          </Notice>
        )}
        {!canWrite && <Notice tone="note">Your account may look on. Readings are recorded by others.</Notice>}
        {canWrite && test && device && (
          <EntryField
            input={input}
            value={entry}
            onChange={(value) => {
              setEntry(value);
              setSource("typed");
              if (queue.refused) queue.forgetRefusal();
            }}
            onSubmit={record}
            onlyWords={device.only_words}
            due={verdict.settled && !own}
            unit={device.unit}
            words={device.words}
            problem={refusal}
            meter={bench.meter}
            meterBusy={meter.isPending}
            onMeter={() => meter.mutate(test)}
          />
        )}
        {bench.meters.length > 0 && device && ["volts", "ohms"].includes(device.kind) && (
          <label className="-my-1 flex items-center gap-2 text-sm text-soft">
            Meter
            <select
              className="min-h-9 rounded-sm border border-ink/60 bg-raised px-2 text-ink"
              value={bench.meters.some((item) => item.id === meterId) ? meterId : ""}
              onChange={(event) => {
                setMeterId(event.target.value);
                localStorage.setItem("sondar-meter", event.target.value);
              }}
            >
              <option value="">usual accuracy</option>
              {bench.meters.map((item) => (
                <option key={item.id} value={item.id}>
                  {item.name}
                </option>
              ))}
            </select>
          </label>
        )}
        <div className="-my-2 flex flex-wrap items-center gap-x-4 text-sm">
          <Button kind="quiet" className="px-0" onClick={cannotReach}>
            Can't reach it (X)
          </Button>
          <Button
            kind="quiet"
            className="px-0"
            onClick={() => setChanging(!changing)}
            aria-expanded={changing}
          >
            Change the test (S)
          </Button>
          {own && (
            <Button kind="quiet" className="px-0" onClick={() => setOwn(null)}>
              Back to the proposal (Esc)
            </Button>
          )}
          {lastStanding && (
            <Button kind="quiet" className="px-0" onClick={() => setAsking(lastStanding)}>
              Take back the last (Z)
            </Button>
          )}
          {!verdict.settled && (
            <Button kind="quiet" className="px-0" onClick={() => call.mutate()}>
              Call it now (V)
            </Button>
          )}
        </div>
        {changing && test && (
          <SetupBar
            circuit={circuit}
            test={test}
            instruments={circuit.instruments
              .map((item) => item.id)
              .filter((id) => !bench.exclusions.instrument.includes(id))}
            onChange={change}
          />
        )}
        {(bench.exclusions.point.length > 0 || bench.exclusions.instrument.length > 0) && (
          <p className="text-sm">
            Left out:{" "}
            {(["point", "instrument"] as const).flatMap((kind) =>
              bench.exclusions[kind].map((name) => (
                <button
                  key={name}
                  type="button"
                  className="mr-3 min-h-6 underline underline-offset-4"
                  onClick={() => exclude.mutate({ kind, name, excluded: false })}
                >
                  {name}, bring back
                </button>
              )),
            )}
          </p>
        )}
        {shown && <OutcomeTable proposal={shown} />}
        <div>
          <h2 className="text-base">
            Readings <span className="text-sm font-[400] text-soft">newest first, with what each did</span>
          </h2>
          {bench.readings.length + queue.pending.length === 0 ? (
            <p className="text-sm text-soft">
              None yet. Type what the instrument shows and press Enter; Esc clears.
            </p>
          ) : (
            <ReadingsList
              bench={bench}
              pending={queue.pending}
              waiting={queue.waiting}
              onRetract={setAsking}
            />
          )}
        </div>
        {!own && proposals.length > 1 && (
          <Alternatives
            proposals={proposals}
            chosen={chosen}
            onChoose={setChosen}
            onNoTool={(name) => exclude.mutate({ kind: "instrument", name, excluded: true })}
          />
        )}
      </section>

      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        className="order-3 overflow-auto border-l border-rule px-4 py-3"
        aria-label="Suspects"
      >
        <ThreeWayField track={bench.assessment.track} />
        {bench.leanings.length > 0 && (
          <details className="text-sm">
            <summary className="min-h-6 cursor-pointer text-soft">Known before the first reading</summary>
            <ul className="list-disc pl-5">
              {bench.leanings.map((reason) => (
                <li key={reason}>{reason}</li>
              ))}
            </ul>
          </details>
        )}
        <h2 className="mt-1 mb-1 text-base">
          Suspects <span className="text-sm font-[400] text-soft">by what would be replaced</span>
        </h2>
        <Suspects bench={bench} />
        {!verdict.settled && (
          <p className="mt-2 text-sm text-soft">
            No call yet: {verdict.reason}. Acting on a guess now would lose about{" "}
            {minutes(verdict.expected_loss_min)}.
          </p>
        )}
      </section>

      <AskDialog
        open={asking !== null}
        title={asking ? `Take back ${asking.label} at ${asking.red}?` : ""}
        choices={["Wrong point", "Wrong set-up", "Misread", "Typing slip"]}
        accept="Take it back"
        onClose={() => setAsking(null)}
        onAccept={(reason) => {
          if (asking) retract.mutate({ reading: asking, reason });
          setAsking(null);
        }}
      >
        It stays in the record, crossed out with your reason, and no longer counts.
      </AskDialog>
    </main>
  );
}

function OwnTest({ test, problem }: { test: TestIn; problem: string | null }) {
  return (
    <section aria-label="Your own test">
      <h2 className="text-2xl leading-tight">
        <span className="text-next">Your test. </span>
        {test.red} to {test.black}
      </h2>
      {problem ? (
        <Notice tone="note">{problem}</Notice>
      ) : (
        <p className="text-soft">Working out what it should show …</p>
      )}
    </section>
  );
}

function Alternatives(props: {
  proposals: Proposal[];
  chosen: number;
  onChoose: (index: number) => void;
  onNoTool: (instrument: string) => void;
}) {
  const best = props.proposals[0]?.worth ?? 1;
  return (
    <div>
      <h2 className="text-base">
        Other good tests{" "}
        <span className="text-sm font-[400] text-soft">↑ ↓ to choose; worth against the best</span>
      </h2>
      <ul className="border-t border-rule text-sm">
        {props.proposals.map((proposal, index) => (
          <li
            key={`${proposal.test.instrument}-${proposal.test.red}-${proposal.test.black}-${proposal.test.setup.text}`}
            className="flex border-b border-rule"
          >
            <button
              type="button"
              aria-pressed={index === props.chosen}
              onClick={() => props.onChoose(index)}
              className={`grid min-h-11 flex-1 grid-cols-[1fr_auto_auto] items-center gap-3 text-left ${index === props.chosen ? "bg-depth-1" : ""}`}
            >
              <span className="px-1">
                <strong className="font-[600]">
                  {proposal.test.instrument_title} {proposal.test.red}
                </strong>{" "}
                <span className="text-soft">{proposal.test.setup.text}</span>
              </span>
              <span>{minutes(proposal.minutes)}</span>
              <span className="w-14 text-right">{percent(Math.min(1, proposal.worth / best))}</span>
            </button>
            <Button
              kind="quiet"
              className="px-2 text-sm"
              onClick={() => props.onNoTool(proposal.test.instrument)}
            >
              Don't have it
            </Button>
          </li>
        ))}
      </ul>
    </div>
  );
}
