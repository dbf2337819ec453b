import { useQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useReducer, useRef, useState } from "react";
import { useLocation, useNavigate } from "react-router";
import { ApiError, type Circuit, type Measuring, type TestIn } from "../../api/client";
import { expectedValuesQuery, foreseenQuery, previewQuery } from "../../api/queries";
import { useMe } from "../../api/session";
import { useQuiet } from "../../lib/quiet";
import { AskDialog } from "../../ui/AskDialog";
import { Notice } from "../../ui/Notice";
import { Calculators } from "../calculators/Calculators";
import { logPath } from "../recordings/calls";
import { ActionBar } from "./ActionBar";
import { changed, type DraftChange, EMPTY, type Reading, remaining, testOf } from "./draft/draft";
import { asTest } from "./draft/tests";
import { ConnectorFace } from "./drawing/ConnectorFace";
import { type Entry, EntryField, type EntryHandle } from "./entry/EntryField";
import { follow } from "./entry/foreseen";
import { useReadings } from "./entry/useReadings";
import { COMMANDS } from "./hotkeys/commands";
import { HotkeysDialog } from "./hotkeys/HotkeysDialog";
import { useMeasureHotkeys } from "./hotkeys/useMeasureHotkeys";
import { MeasureHeadline } from "./MeasureHeadline";
import { Alternatives, SameSetup } from "./panels/Alternatives";
import { CircuitPanel } from "./panels/CircuitPanel";
import { ConclusionDue } from "./panels/ConclusionDue";
import { Excluded } from "./panels/Excluded";
import { FillInDialog } from "./panels/FillInDialog";
import { Learned } from "./panels/Learned";
import { LookUps } from "./panels/LookUps";
import { OutcomeTable, OwnTest, ProposalCard } from "./panels/ProposalCard";
import { ReadingsList } from "./panels/ReadingsList";
import { placesOf, SeizedDialog } from "./panels/SeizedDialog";
import { SetupBar } from "./panels/SetupBar";
import { SidePanel, type SideTab } from "./panels/SidePanel";
import { ThenAndNow } from "./panels/ThenAndNow";
import { ToVerify } from "./panels/ToVerify";
import { Waveform } from "./panels/Waveform";
import { WaysOfBuilding } from "./panels/WaysOfBuilding";
import { WithoutConnection } from "./panels/WithoutConnection";
import { useActions } from "./useActions";

const UNDO_MS = 60_000;
/** After an answer: whoever types on is not kept waiting by what is only worked out ahead. */
const QUIET_MS = 1200;

type Dialog = "calculators" | "keys" | "known" | "seized" | null;

/** From here on it is said why the diagnosis is not called yet. */
const LEADS_BY_FAR = 0.9;

/** A circuit diagnosis with its data: proposal and entry in the middle, the circuit left, what the readings told right. */
export function OpenDiagnosis({ measuring, circuit }: { measuring: Measuring; circuit: Circuit }) {
  const diagnosisId = measuring.diagnosis.id;
  const { assessment } = measuring;
  const { conclusion } = assessment;
  const input = useRef<HTMLInputElement>(null);
  const entry = useRef<EntryHandle>(null);
  const wanted = useLocation().state?.test as TestIn | undefined;
  const navigate = useNavigate();
  const [draft, change] = useReducer(changed, { ...EMPTY, own: wanted ?? null });
  useEffect(() => {
    // The test that another page asked for is taken once, not again when this page is loaded anew.
    if (wanted) navigate(".", { replace: true, state: null });
  }, [wanted, navigate]);
  const [changing, setChanging] = useState(false);
  const [asking, setAsking] = useState<Reading | null>(null);
  const [dialog, setDialog] = useState<Dialog>(null);
  const [face, setFace] = useState<string | null>(null);
  const [tab, setTab] = useState<SideTab>("suspects");
  const [overlay, setOverlay] = useState<string | null>(null);
  const [meterId, setMeterId] = useState(() => localStorage.getItem("sondar-meter") ?? "");
  const queue = useReadings(diagnosisId);
  const me = useMe().data;
  const canWrite = me?.role !== "read-only";
  const { own, correcting } = draft;
  const readings = assessment.effects.length;

  const quiet = useQuiet(measuring.evidence_seq, QUIET_MS);
  const foreseen = useQuery(foreseenQuery(diagnosisId, measuring.evidence_seq, quiet && canWrite));
  const without = queue.waiting && queue.pending.length > 0;
  const ahead = useMemo(
    () => (without ? follow(foreseen.data, queue.pending) : null),
    [without, foreseen.data, queue.pending],
  );
  const proposals = useMemo(() => {
    const known = without ? [ahead?.proposal].filter((item) => item != null) : assessment.proposals;
    return remaining(known, draft.later);
  }, [without, ahead, assessment.proposals, draft.later]);
  const proposed = proposals[Math.min(draft.chosen, proposals.length - 1)];
  const preview = useQuery(previewQuery(diagnosisId, own, measuring.job.last_seq));
  const shown = own ? preview.data : proposed;
  const test = useMemo(() => own ?? (proposed ? asTest(proposed) : null), [own, proposed]);
  const device = circuit.instruments.find((item) => item.id === test?.instrument);
  const expected = useQuery(expectedValuesQuery(diagnosisId, overlay, test?.setup, readings));
  const { void_, exclude, meter, conclude } = useActions(
    diagnosisId,
    (text) => {
      entry.current?.fill({ text, source: "meter" });
      input.current?.focus();
    },
    () => change({ do: "best first" }),
  );

  const cancel = useCallback(() => {
    entry.current?.clear();
    change({ do: "cancel" });
    queue.forgetRefusal();
  }, [queue.forgetRefusal]);
  const record = (typed: Entry, sure = false) => {
    const base = (sure && queue.refused?.reading) || test;
    if (!base) return;
    queue.add({
      instrument: base.instrument,
      red: base.red,
      black: base.black,
      setup: base.setup,
      client_key: crypto.randomUUID(),
      entry: typed.text,
      source: typed.source,
      note: typed.note.trim(),
      meter_id: meterId || null,
      sure,
      supersedes: correcting?.id ?? null,
    });
    entry.current?.clear();
    change({ do: "recorded" });
    input.current?.focus();
  };
  // A refused entry comes back into the field: nothing typed is lost.
  useEffect(() => {
    const refused = queue.refused?.reading;
    if (refused) entry.current?.restore({ text: refused.entry, note: refused.note ?? "" });
  }, [queue.refused]);
  useEffect(() => input.current?.focus(), []);

  /** Another test in hand: what was typed belonged to the one before, unless a reading is being corrected. */
  const alter = useCallback(
    (made: DraftChange) => {
      change(made);
      if (!correcting) entry.current?.fill({ text: "" });
    },
    [correcting],
  );
  const setTest = useCallback((made: TestIn) => alter({ do: "own", test: made }), [alter]);
  const placeProbe = useCallback(
    (ref: string) => alter({ do: "place", ref, circuit, test, proposed }),
    [alter, circuit, test, proposed],
  );
  const cannotReach = () => {
    if (!test) return;
    const point = circuit.points.find((item) => item.ref === test.red);
    exclude.mutate({
      kind: "point",
      name: point?.place && point.place !== "body" ? point.place : test.red,
      excluded: true,
    });
  };
  const toFree = test ? placesOf(circuit, test, assessment.setup.unplugged) : [];
  const later = () => change({ do: "later", proposal: proposed });
  const last = useMemo(
    () => [...measuring.readings].reverse().find((reading) => reading.voided_because === null),
    [measuring.readings],
  );
  const undo = () => {
    if (!last) return;
    // Just typed: undone without a question. Later it is voided, and a reason is asked for.
    if (Date.now() - new Date(last.created_at).getTime() < UNDO_MS)
      void_.mutate({ reading: last, reason: "Undone at once" });
    else setAsking(last);
  };
  const correct = useCallback((reading: Reading) => {
    change({ do: "correct", reading });
    entry.current?.fill({ text: reading.entry, note: reading.note });
    input.current?.focus();
    window.setTimeout(() => input.current?.select());
  }, []);
  const again = useCallback((reading: Reading) => setTest(testOf(reading)), [setTest]);
  const step = (by: number) => change({ do: "step", by, of: proposals.length });
  const fillIn = useCallback(() => setDialog("known"), []);
  const openFace = () => {
    const place = circuit.points.find((item) => item.ref === test?.red)?.connector;
    if (place) setFace(place);
  };

  // A letter that begins one of these is typed; when the conclusion is due, its key, and only that, comes first.
  const concludes = conclusion.settled && !own ? COMMANDS.conclude.key : " ";
  const words = (device?.words ?? []).map((item) => item.word).filter((word) => !word.startsWith(concludes));
  useMeasureHotkeys({
    input,
    blocked: asking !== null || dialog !== null || face !== null,
    words,
    run: {
      meter: () => test && measuring.meter && meter.mutate(test),
      cannotReach,
      later,
      change: () => setChanging((on) => !on),
      voidReading: () => last && setAsking(last),
      undo,
      conclude: () => conclude.mutate(),
      calculators: () => setDialog("calculators"),
      limits: () => setTab((now) => (now === "limits" ? "suspects" : "limits")),
      face: openFace,
      fillIn: () => canWrite && setDialog("known"),
      next: () => step(1),
      previous: () => step(-1),
      cancel,
      help: () => setDialog("keys"),
    },
  });

  const due = (without ? (ahead?.settled ?? false) : conclusion.settled) && !own;
  const refused = queue.refused;
  const meant = refused?.problem.meant
    ? { typed: refused.reading.entry, meant: refused.problem.meant }
    : null;
  const previewProblem = own && preview.error instanceof ApiError ? preview.error.problem.detail : null;
  const trouble = [void_.error, exclude.error, meter.error, conclude.error].find(Boolean);

  return (
    <main className="max-lg:flex max-lg:flex-col max-lg:gap-3 max-lg:px-3 max-lg:pt-2 lg:grid lg:h-full lg:grid-cols-[minmax(340px,1fr)_minmax(0,1.25fr)] lg:grid-rows-[minmax(0,1fr)_minmax(0,1fr)] xl:grid-cols-[400px_minmax(0,1fr)_310px] xl:grid-rows-[minmax(0,1fr)]">
      <MeasureHeadline measuring={measuring} />
      <CircuitPanel
        measuring={measuring}
        circuit={circuit}
        test={test}
        nextProbe={draft.nextProbe}
        overlay={overlay}
        expected={expected.data}
        onOverlay={setOverlay}
        onPoint={placeProbe}
        onChange={alter}
        onFillIn={canWrite ? fillIn : null}
      />
      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        className="flex flex-col gap-3 max-lg:contents lg:order-2 lg:min-h-0 lg:overflow-auto lg:px-4 lg:py-3 lg:contain-strict"
        aria-label="Next test and readings"
      >
        {trouble && <Notice tone="problem">{trouble.message}</Notice>}
        {measuring.said_before && <ThenAndNow measuring={measuring} />}
        {without && <WithoutConnection waiting={queue.pending.length} foreseen={ahead} />}
        {due && !without && (
          <ConclusionDue conclusion={conclusion} busy={conclude.isPending} onConclude={conclude.mutate} />
        )}
        {shown ? (
          <ProposalCard
            proposal={shown}
            circuit={circuit}
            own={own !== null}
            due={due}
            best={assessment.proposals[0]}
            why={!own && !due && conclusion.certainty >= LEADS_BY_FAR ? conclusion.reason : ""}
            jobId={measuring.job.id}
            onFace={setFace}
          />
        ) : own ? (
          <OwnTest test={own} problem={previewProblem} />
        ) : without ? null : (
          <Notice tone="note">
            No test is left with the points and tools at hand. Bring one back below, or conclude with what is
            known.
          </Notice>
        )}
        {!canWrite && (
          <Notice tone="note">Your account is read-only. Readings are recorded by others.</Notice>
        )}
        {canWrite && test && device && (
          <div className="max-lg:sticky max-lg:bottom-0 max-lg:z-10 max-lg:order-4 max-lg:-mx-3 max-lg:border-t max-lg:border-rule max-lg:bg-paper max-lg:px-3 max-lg:py-2">
            <EntryField
              ref={entry}
              input={input}
              device={device}
              onSubmit={record}
              onTyped={queue.forgetRefusal}
              due={due}
              problem={refused?.problem.detail ?? null}
              meant={meant}
              onMeant={(text, note) => record({ text, note, source: "typed" }, true)}
              correcting={correcting?.label ?? null}
              meter={measuring.meter}
              meterBusy={meter.isPending}
              onMeter={() => meter.mutate(test)}
              log={
                measuring.meter && device.logged
                  ? logPath(measuring.job.id, { diagnosis_id: diagnosisId, ...test, ...test.setup })
                  : null
              }
              meters={device.accuracy_of ? measuring.meters : []}
              meterId={meterId}
              onMeterId={(id) => {
                setMeterId(id);
                localStorage.setItem("sondar-meter", id);
              }}
            />
          </div>
        )}
        <ToVerify measuring={measuring} onTest={setTest} />
        <Learned assessment={assessment} />
        <LookUps
          assessment={assessment}
          diagnosisId={diagnosisId}
          canWrite={canWrite}
          onNotFound={(name) => exclude.mutate({ kind: "figure", name, excluded: true })}
        />
        <WaysOfBuilding assessment={assessment} diagnosisId={diagnosisId} canWrite={canWrite} />
        {!own && (
          <SameSetup
            proposals={assessment.same_setup}
            black={circuit.black_reference}
            onChoose={(item) => setTest(asTest(item))}
          />
        )}
        <ActionBar
          words={words}
          own={own !== null}
          changing={changing}
          canVoid={last !== undefined}
          canConclude={!conclusion.settled}
          onCancel={cancel}
          onLater={later}
          onCannotReach={cannotReach}
          onSeized={toFree.length > 0 ? () => setDialog("seized") : null}
          onChange={() => setChanging(!changing)}
          onVoid={() => last && setAsking(last)}
          onCalculators={() => setDialog("calculators")}
          onConclude={() => conclude.mutate()}
          onKeys={() => setDialog("keys")}
        />
        {changing && test && (
          <SetupBar
            circuit={circuit}
            test={test}
            instruments={circuit.instruments
              .map((item) => item.id)
              .filter((id) => !measuring.exclusions.instrument.includes(id))}
            atHand={me?.workshop?.tools ?? []}
            onChange={setTest}
          />
        )}
        <Excluded
          exclusions={measuring.exclusions}
          later={draft.later.length}
          instruments={circuit.instruments}
          onInclude={(kind, name) => exclude.mutate({ kind, name, excluded: false })}
          onBringBack={() => change({ do: "bring back" })}
        />
        <div className="flex flex-col gap-3 max-lg:order-2">
          {device?.probes && device.figures && device.unit !== "Ω" && (
            <Waveform diagnosisId={diagnosisId} test={test} readings={readings} />
          )}
          {shown && <OutcomeTable proposal={shown} />}
          <div>
            <h2 className="text-base">
              Readings{" "}
              <span className="text-sm font-[400] text-soft">newest first, with what each changed</span>
            </h2>
            {measuring.readings.length + queue.pending.length === 0 ? (
              <p className="text-sm text-soft">
                None yet. Type what the instrument shows and press Enter; Esc clears.
              </p>
            ) : (
              <ReadingsList
                readings={measuring.readings}
                repairs={measuring.repairs}
                effects={assessment.effects}
                pending={queue.pending}
                waiting={queue.waiting}
                onVoid={setAsking}
                onCorrect={correct}
                onAgain={again}
              />
            )}
          </div>
          {!own && proposals.length > 1 && (
            <Alternatives
              proposals={proposals}
              chosen={draft.chosen}
              onChoose={(index) => change({ do: "choose", index })}
              onNoTool={(name) => exclude.mutate({ kind: "instrument", name, excluded: true })}
            />
          )}
        </div>
      </section>
      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        className="border-rule max-lg:order-3 max-lg:border-t max-lg:pt-2 lg:order-3 lg:overflow-auto lg:border-l lg:px-4 lg:py-2 lg:contain-strict"
        aria-label="Suspects"
      >
        {without && (
          <p className="text-sm text-soft">As of the last stored reading, before those that wait.</p>
        )}
        <SidePanel
          measuring={measuring}
          circuit={circuit}
          canWrite={canWrite}
          tab={tab}
          onTab={setTab}
          overlay={overlay}
          onOverlay={setOverlay}
          onTest={setTest}
          test={test}
          where={shown ? `${shown.test.instrument_title}: ${shown.test.where} ${shown.test.setup.text}` : ""}
        />
      </section>

      <Calculators
        open={dialog === "calculators"}
        onClose={() => setDialog(null)}
        readings={measuring.readings}
        onNote={(text) => entry.current?.addNote(text)}
      />
      <FillInDialog diagnosisId={diagnosisId} open={dialog === "known"} onClose={() => setDialog(null)} />
      {dialog === "seized" && (
        <SeizedDialog
          places={toFree}
          currency={me?.workshop?.currency ?? ""}
          error={exclude.error}
          waiting={exclude.isPending}
          onClose={() => setDialog(null)}
          onKeep={(place) =>
            exclude.mutate({ kind: "seized", excluded: true, ...place }, { onSuccess: () => setDialog(null) })
          }
        />
      )}
      <HotkeysDialog open={dialog === "keys"} onClose={() => setDialog(null)} />
      <ConnectorFace
        connector={circuit.connectors.find((item) => item.id === face) ?? null}
        test={test}
        onClose={() => setFace(null)}
        onPoint={placeProbe}
      />
      <AskDialog
        open={asking !== null}
        title={asking ? `Void ${asking.label} at ${asking.red}?` : ""}
        choices={["Wrong point", "Wrong set-up", "Misread", "Typing error"]}
        accept="Void the reading"
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
