import { memo, useCallback, useMemo } from "react";
import type { Circuit, Measuring, Schema, TestIn } from "../../../api/client";
import { Button } from "../../../ui/Button";
import type { DraftChange, Probe } from "../draft/draft";
import { CircuitDrawing } from "../drawing/CircuitDrawing";

interface Props {
  measuring: Measuring;
  circuit: Circuit;
  test: TestIn | null;
  nextProbe: Probe;
  /** The unit whose expected values are shown over the drawing; "none" for a healthy circuit. */
  overlay: string | null;
  expected: Schema["ExpectedOverlay"] | undefined;
  onOverlay: (unit: string | null) => void;
  onPoint: (ref: string) => void;
  onChange: (change: DraftChange) => void;
  /** Opens what is known of the circuit; null for whoever only reads. */
  onFillIn: (() => void) | null;
}

/** The drawing with its heading: points take the probes, connectors and controls are set. */
export const CircuitPanel = memo(function CircuitPanel(props: Props) {
  const { measuring, circuit, test, nextProbe, overlay, expected, onOverlay, onPoint, onChange, onFillIn } =
    props;
  const readings = useMemo(() => inThisSetup(measuring, test), [measuring, test]);
  const onConnector = useCallback(
    (connector: string) => test && onChange({ do: "connector", connector, test }),
    [onChange, test],
  );
  const onControl = useCallback(
    (control: string) => test && onChange({ do: "control", control, circuit, test }),
    [onChange, circuit, test],
  );
  return (
    <section
      // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
      tabIndex={0}
      className="border-rule py-2 max-lg:order-1 max-lg:border-t lg:order-1 lg:row-span-2 lg:overflow-auto lg:border-r lg:px-2 lg:contain-strict xl:row-span-1"
      aria-label="Circuit"
    >
      <h2 className="px-2 text-sm text-soft">
        {circuit.title}, supply to ground. Tap a point for the {nextProbe} probe
        <button
          type="button"
          className="ml-2 min-h-6 underline underline-offset-4"
          onClick={() => onChange({ do: "probe" })}
        >
          {nextProbe === "red" ? "black instead" : "red instead"}
        </button>
      </h2>
      {overlay && expected && (
        <p className="px-2 text-sm">
          In italics: what a voltmeter shows{" "}
          {overlay === "none" ? (
            <strong>in a healthy circuit</strong>
          ) : (
            <>
              with <strong>{expected.title}</strong>
            </>
          )}
          .{" "}
          <button type="button" className="min-h-6 underline" onClick={() => onOverlay(null)}>
            Hide
          </button>
        </p>
      )}
      <CircuitDrawing
        circuit={circuit}
        readings={readings}
        weights={measuring.assessment.branch_weights}
        test={test}
        expected={overlay && expected ? expected.values : null}
        onPoint={onPoint}
        onConnector={onConnector}
        onControl={onControl}
      >
        {!overlay && (
          <Button kind="quiet" className="px-2" onClick={() => onOverlay("none")}>
            Show expected values
          </Button>
        )}
        {onFillIn && (
          <Button kind="quiet" className="px-2" onClick={onFillIn}>
            What is known (K)
          </Button>
        )}
      </CircuitDrawing>
    </section>
  );
});

/** Readings since the last repair that were taken in the set-up that is shown: figures of another set-up would contradict them. */
function inThisSetup(measuring: Measuring, test: TestIn | null): Measuring["readings"] {
  const since = measuring.repairs.at(-1)?.seq ?? 0;
  const now = measuring.readings.filter((reading) => reading.seq > since);
  if (!test) return now;
  const wanted = setupKey(test.setup.controls ?? {}, test.setup.unplugged ?? [], measuring);
  return now.filter((reading) => setupKey(reading.controls, reading.unplugged, measuring) === wanted);
}

function setupKey(controls: Record<string, string>, unplugged: string[], measuring: Measuring): string {
  const all = { ...measuring.assessment.setup.controls, ...controls };
  return JSON.stringify([Object.entries(all).sort(), [...unplugged].sort()]);
}
