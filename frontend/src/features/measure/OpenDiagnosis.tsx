import { useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useRef, useState } from "react";
import { Link } from "react-router";
import { ApiError, type Situation, type Circuit, type Proposal, type TestIn } from "../../api/client";
import { ghostsQuery, previewQuery } from "../../api/queries";
import { useMe } from "../../api/session";
import { Headline } from "../../app/Headline";
import { AskDialog } from "../../ui/AskDialog";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Alternatives, FreeReadings } from "./Alternatives";
import { Arithmetic } from "./Arithmetic";
import { CircuitDrawing } from "./CircuitDrawing";
import { ConnectorFace } from "./ConnectorFace";
import { EntryField } from "./EntryField";
import { OutcomeTable, ProposalCard } from "./ProposalCard";
import { ReadingsList } from "./ReadingsList";
import { SetupBar } from "./SetupBar";
import { SidePanel, type SideTab } from "./SidePanel";
import { Trace } from "./Trace";
import { asTest, testKey, withConnector, withLead, withNextPosition } from "./tests";
import { useBenchActions } from "./useBenchActions";
import { useReadings } from "./useReadings";

type Reading = Situation["readings"][number];

const UNDO_MS = 60_000;

/** A bench with its data: proposal and entry in the middle, the circuit left, what it told right. */
export function OpenBench({ bench, circuit }: { bench: Situation; circuit: Circuit }) {
  const diagnosisId = bench.diagnosis.id;
  const input = useRef<HTMLInputElement>(null);
  const [entry, setEntry] = useState("");
  const [note, setNote] = useState("");
  const [chosen, setChosen] = useState(0);
  const [later, setLater] = useState<string[]>([]);
  const [own, setOwn] = useState<TestIn | null>(null);
  const [correcting, setCorrecting] = useState<Reading | null>(null);
  const [nextLead, setNextLead] = useState<"red" | "black">("red");
  const [changing, setChanging] = useState(false);
  const [asking, setAsking] = useState<Reading | null>(null);
  const [summing, setSumming] = useState(false);
  const [face, setFace] = useState<string | null>(null);
  const [tab, setTab] = useState<SideTab>("suspects");
  const [ghost, setGhost] = useState<string | null>(null);
  const [source, setSource] = useState<"typed" | "meter">("typed");
  const [meterId, setMeterId] = useState(() => localStorage.getItem("sondar-meter") ?? "");
  const queue = useReadings(diagnosisId);
  const me = useMe().data;
  const canWrite = me?.role !== "read-only";
  const { conclusion } = bench.assessment;
  const proposals = useMemo(() => {
    const put = (proposal: Proposal) => later.includes(testKey(asTest(proposal)));
    const all = bench.assessment.proposals;
    return all.some((item) => !put(item)) ? all.filter((item) => !put(item)) : all;
  }, [bench.assessment.proposals, later]);
  const proposed = proposals[Math.min(chosen, proposals.length - 1)];
  const preview = useQuery(previewQuery(diagnosisId, own, bench.assessment.effects.length));
  const shown = own ? preview.data : proposed;
  const test = own ?? (proposed ? asTest(proposed) : null);
  const device = circuit.instruments.find((item) => item.id === test?.instrument);
  const ghosts = useQuery(ghostsQuery(diagnosisId, ghost, test?.setup, bench.assessment.effects.length));
  const { void_, exclude, meter, call } = useBenchActions(
    diagnosisId,
    (text) => {
      setEntry(text);
      setSource("meter");
      input.current?.focus();
    },
    () => setChosen(0),
  );

  const reset = () => {
    setEntry("");
    setNote("");
    setOwn(null);
    setCorrecting(null);
    queue.forgetRefusal();
  };
  const record = (text: string, sure = false) => {
    const refused = queue.refused?.reading;
    const base = sure && refused ? refused : test;
    if (!base) return;
    queue.add({
      instrument: base.instrument,
      red: base.red,
      black: base.black,
      setup: base.setup,
      client_key: crypto.randomUUID(),
      entry: text,
      source,
      note: note.trim(),
      meter_id: meterId || null,
      sure,
      supersedes: correcting?.id ?? null,
    });
    reset();
    setSource("typed");
    setChosen(0);
    input.current?.focus();
  };
  // A refused entry comes back into the field: nothing typed is lost.
  useEffect(() => {
    if (!queue.refused) return;
    setEntry(queue.refused.reading.entry);
    setNote(queue.refused.reading.note ?? "");
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
  const postpone = () => {
    if (proposed) setLater((all) => [...all, testKey(asTest(proposed))]);
    setOwn(null);
    setChosen(0);
  };
  const lastStanding = [...bench.readings].reverse().find((reading) => reading.voided_because === null);
  const undo = () => {
    if (!lastStanding) return;
    // Just typed: back without a question. Later it is a voiding, and a reason is asked for.
    if (Date.now() - new Date(lastStanding.created_at).getTime() < UNDO_MS)
      void_.mutate({ reading: lastStanding, reason: "Undone at once" });
    else setAsking(lastStanding);
  };
  const correct = (reading: Reading) => {
    setOwn(testOf(reading));
    setCorrecting(reading);
    setEntry(reading.entry);
    setNote(reading.note);
    input.current?.focus();
    input.current?.select();
  };
  const choose = (step: number) => {
    setOwn(null);
    setChosen((now) => (now + step + proposals.length) % Math.max(1, proposals.length));
  };

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      // A key that a dialog has used, such as the Esc that closed it, is not for the bench as well.
      if (event.defaultPrevented || asking || summing || face) return;
      if ((event.ctrlKey || event.metaKey) && event.key === "z" && entry === "") {
        event.preventDefault();
        undo();
        return;
      }
      if (event.ctrlKey || event.metaKey) return;
      const target = event.target as HTMLElement;
      const inEntry = target === input.current;
      if (!inEntry && /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) return;
      if (event.key === "Escape") {
        reset();
        return;
      }
      if (entry === "") {
        const commands: Record<string, () => void> = {
          r: () => test && bench.meter && meter.mutate(test),
          x: cannotReach,
          n: postpone,
          z: () => lastStanding && setAsking(lastStanding),
          s: () => setChanging((on) => !on),
          v: () => call.mutate(),
          a: () => setSumming(true),
          l: () => setTab((now) => (now === "limits" ? "suspects" : "limits")),
          f: () => {
            const place = circuit.points.find((item) => item.ref === test?.red)?.connector;
            if (place) setFace(place);
          },
        };
        const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
        // A letter that begins one of the instrument's own words is typed, unless Alt is held or a call is due.
        const typed =
          !event.altKey &&
          !(conclusion.settled && !own) &&
          device?.words.some((word) => word.startsWith(event.key));
        const command = step ? () => choose(step) : typed ? undefined : commands[event.key.toLowerCase()];
        // Inside a group of choices the arrows belong to the group.
        const grouped = ["radio", "tab"].includes(target.getAttribute("role") ?? "");
        if (command && !(event.key.startsWith("Arrow") && grouped)) {
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
    if (!correcting) setEntry("");
  };
  const placeLead = (ref: string) => {
    const fresh = !own || (proposed?.test.red === own.red && proposed.test.black === own.black);
    change(withLead(circuit, test, nextLead, ref, fresh));
    if (nextLead === "black" && ref !== test?.red) setNextLead("red");
  };

  const refusal = queue.refused?.problem.detail ?? null;
  const meant = queue.refused?.problem.meant
    ? { typed: queue.refused.reading.entry, meant: queue.refused.problem.meant }
    : null;
  const previewProblem = own && preview.error instanceof ApiError ? preview.error.problem.detail : null;
  const trouble = [void_.error, exclude.error, meter.error, call.error].find(Boolean);
  const quiet = "px-0";

  return (
    <main className="grid grid-cols-1 md:h-full md:grid-cols-[minmax(340px,1fr)_minmax(0,1.25fr)] xl:grid-cols-[400px_minmax(0,1fr)_310px]">
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
        className="order-2 overflow-x-auto border-r border-rule px-2 py-2 md:order-1 md:row-span-2 md:overflow-auto xl:row-span-1"
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
        {ghost && ghosts.data && (
          <p className="px-2 text-sm">
            Slanted: what a voltmeter shows{" "}
            {ghost === "none" ? (
              <strong>in a healthy circuit</strong>
            ) : (
              <>
                with <strong>{ghosts.data.title}</strong>
              </>
            )}
            .{" "}
            <button type="button" className="min-h-6 underline" onClick={() => setGhost(null)}>
              Take them off
            </button>
          </p>
        )}
        <CircuitDrawing
          circuit={circuit}
          readings={bench.readings}
          weights={bench.assessment.branch_weights}
          test={test}
          ghosts={ghost && ghosts.data ? ghosts.data.values : null}
          onPoint={placeLead}
          onConnector={(connector) => test && change(withConnector(test, connector))}
          onControl={(control) => test && change(withNextPosition(circuit, test, control))}
        >
          {!ghost && (
            <Button kind="quiet" className="px-2" onClick={() => setGhost("none")}>
              Lay healthy values over it
            </Button>
          )}
        </CircuitDrawing>
      </section>

      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        className="order-1 flex min-h-0 flex-col gap-3 px-4 py-3 md:order-2 md:overflow-auto"
        aria-label="Next test and readings"
      >
        {trouble && <Notice tone="problem">{trouble.message}</Notice>}
        {conclusion.settled && !own && (
          <section aria-label="Verdict due" className="border-l-4 border-next bg-raised px-3 py-2">
            <h2 className="text-xl leading-snug">{conclusion.sentence}</h2>
            <p className="mb-2 text-sm text-soft">Measuring has done its work: {conclusion.reason}.</p>
            <Button kind="next" onClick={() => call.mutate()} disabled={call.isPending}>
              Call the conclusion (V)
            </Button>
          </section>
        )}
        {shown ? (
          <ProposalCard
            proposal={shown}
            circuit={circuit}
            own={own !== null}
            due={conclusion.settled && !own}
            best={bench.assessment.proposals[0]}
            onFace={setFace}
          />
        ) : own ? (
          <OwnTest test={own} problem={previewProblem} />
        ) : (
          <Notice tone="note">
            No test is left with the points and tools at hand. Bring one back below, or call the conclusion as it
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
            onSubmit={(text) => record(text)}
            onlyWords={device.only_words}
            due={conclusion.settled && !own}
            unit={device.unit}
            words={device.words}
            problem={refusal}
            meant={meant}
            onMeant={record}
            note={note}
            onNote={setNote}
            correcting={correcting?.label ?? null}
            meter={bench.meter}
            meterBusy={meter.isPending}
            onMeter={() => meter.mutate(test)}
            meters={["volts", "ohms"].includes(device.kind) ? bench.meters : []}
            meterId={meterId}
            onMeterId={(id) => {
              setMeterId(id);
              localStorage.setItem("sondar-meter", id);
            }}
          />
        )}
        {!own && (
          <FreeReadings
            proposals={bench.assessment.free}
            black={circuit.black_reference}
            onChoose={(item) => change(asTest(item))}
          />
        )}
        <div className="-my-2 flex flex-wrap items-center gap-x-3.5 text-sm">
          {own ? (
            <Button kind="quiet" className={quiet} onClick={reset}>
              Back (Esc)
            </Button>
          ) : (
            <Button kind="quiet" className={quiet} onClick={postpone}>
              Later (N)
            </Button>
          )}
          <Button kind="quiet" className={quiet} onClick={cannotReach}>
            Can't reach (X)
          </Button>
          <Button
            kind="quiet"
            className={quiet}
            onClick={() => setChanging(!changing)}
            aria-expanded={changing}
          >
            Change (S)
          </Button>
          {lastStanding && (
            <Button kind="quiet" className={quiet} onClick={() => setAsking(lastStanding)}>
              Take back (Z)
            </Button>
          )}
          <Button kind="quiet" className={quiet} onClick={() => setSumming(true)}>
            Sums (A)
          </Button>
          {!conclusion.settled && (
            <Button kind="quiet" className={quiet} onClick={() => call.mutate()}>
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
            atHand={me?.workshop?.tools ?? []}
            onChange={change}
          />
        )}
        {(bench.exclusions.point.length > 0 ||
          bench.exclusions.instrument.length > 0 ||
          later.length > 0) && (
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
            {later.length > 0 && (
              <button
                type="button"
                className="mr-3 min-h-6 underline underline-offset-4"
                onClick={() => setLater([])}
              >
                {later.length} for later, bring back
              </button>
            )}
          </p>
        )}
        {device?.leads && !device.only_words && device.unit !== "Ω" && (
          <Trace diagnosisId={diagnosisId} test={test} readings={bench.assessment.effects.length} />
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
              onCorrect={correct}
              onAgain={(reading) => change(testOf(reading))}
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
        className="order-3 border-rule px-4 py-2 md:overflow-auto md:border-l"
        aria-label="Suspects"
      >
        <SidePanel
          bench={bench}
          circuit={circuit}
          canWrite={canWrite}
          tab={tab}
          onTab={setTab}
          ghost={ghost}
          onGhost={setGhost}
          onTest={change}
        />
      </section>

      <Arithmetic
        open={summing}
        onClose={() => setSumming(false)}
        readings={bench.readings}
        onNote={(text) => setNote((now) => (now ? `${now}; ${text}` : text))}
      />
      <ConnectorFace
        connector={circuit.connectors.find((item) => item.id === face) ?? null}
        test={test}
        onClose={() => setFace(null)}
        onPoint={placeLead}
      />
      <AskDialog
        open={asking !== null}
        title={asking ? `Take back ${asking.label} at ${asking.red}?` : ""}
        choices={["Wrong point", "Wrong set-up", "Misread", "Typing slip"]}
        accept="Take it back"
        onClose={() => setAsking(null)}
        onAccept={(reason) => {
          if (asking) void_.mutate({ reading: asking, reason });
          setAsking(null);
        }}
      >
        It stays in the record, crossed out with your reason, and no longer counts.
      </AskDialog>
    </main>
  );
}

/** The test that a reading was taken for. */
function testOf(reading: Reading): TestIn {
  return {
    instrument: reading.instrument,
    red: reading.red,
    black: reading.black,
    setup: { controls: reading.controls, unplugged: reading.unplugged },
  };
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
