import type { Measuring, Schema } from "../../../api/client";

/** Points, instruments and tests that are left out for now, each with the way back. */
export function Excluded(props: {
  exclusions: Measuring["exclusions"];
  later: number;
  instruments: Schema["InstrumentView"][];
  onInclude: (kind: "point" | "instrument" | "figure" | "seized", name: string) => void;
  onBringBack: () => void;
}) {
  const { exclusions, later, instruments } = props;
  const left = exclusions.point.length + exclusions.instrument.length + exclusions.figure.length + later;
  const titles = new Map(instruments.map((item) => [item.id, item.title]));
  const look = "mr-3 min-h-6 underline underline-offset-4";
  const seized = exclusions.seized.length > 0 && (
    <p className="text-sm">
      Seized:{" "}
      {exclusions.seized.map(({ name, minutes, price }) => (
        <button key={name} type="button" className={look} onClick={() => props.onInclude("seized", name)}>
          {name}, {minutes.toFixed(0)} min{price > 0 ? ` and ${price.toFixed(2)} more` : " more"}: it came
          apart
        </button>
      ))}
    </p>
  );
  if (left === 0) return seized || null;
  return (
    <>
      {seized}
      <p className="text-sm">
        Excluded:{" "}
        {(["point", "instrument"] as const).flatMap((kind) =>
          exclusions[kind].map((name) => (
            <button key={name} type="button" className={look} onClick={() => props.onInclude(kind, name)}>
              {titles.get(name) ?? name}, include again
            </button>
          )),
        )}
        {exclusions.figure.map(({ name, title }) => (
          <button key={name} type="button" className={look} onClick={() => props.onInclude("figure", name)}>
            {title}, include again
          </button>
        ))}
        {later > 0 && (
          <button type="button" className={look} onClick={props.onBringBack}>
            {later} for later, include again
          </button>
        )}
      </p>
    </>
  );
}
