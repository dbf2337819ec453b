import type { Measuring, Schema } from "../../../api/client";

/** Points, instruments and tests that are left out for now, each with the way back. */
export function Excluded(props: {
  exclusions: Measuring["exclusions"];
  later: number;
  instruments: Schema["InstrumentView"][];
  onInclude: (kind: "point" | "instrument" | "figure", name: string) => void;
  onBringBack: () => void;
}) {
  const { exclusions, later, instruments } = props;
  if (exclusions.point.length + exclusions.instrument.length + exclusions.figure.length + later === 0)
    return null;
  const titles = new Map(instruments.map((item) => [item.id, item.title]));
  const look = "mr-3 min-h-6 underline underline-offset-4";
  return (
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
  );
}
