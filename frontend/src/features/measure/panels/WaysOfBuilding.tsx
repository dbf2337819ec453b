import type { Measuring } from "../../../api/client";
import { percent } from "../../../lib/format";
import { Button } from "../../../ui/Button";
import { Notice } from "../../../ui/Notice";
import { useFillIn } from "./useFillIn";

/** How this vehicle may be built, where nobody has seen its sheet: the readings decide, and a person takes it over. */
export function WaysOfBuilding(props: {
  assessment: Measuring["assessment"];
  diagnosisId: string;
  canWrite: boolean;
}) {
  const fill = useFillIn(props.diagnosisId);
  const { ways } = props.assessment;
  if (ways.length === 0) return null;
  return (
    <div className="border-l-4 border-rule px-3 text-sm" role="note" aria-label="How it is built">
      <strong className="mr-2 font-[700]">How it is built</strong>
      {ways.map((way) => (
        <p key={way.id} className="my-1 flex flex-wrap items-center gap-3">
          <span>
            {way.offered ? "The readings show it: " : "Perhaps: "}
            {way.title.charAt(0).toLowerCase() + way.title.slice(1)} ({percent(way.probability)}).
          </span>
          {way.offered && props.canWrite && (
            <Button
              disabled={fill.isPending}
              onClick={() => fill.mutate([{ kind: "variant", id: way.id, field: "built", value: "so" }])}
            >
              Draw it so
            </Button>
          )}
        </p>
      ))}
      <p className="text-soft">The suspects beside it are those of the circuit as it is drawn.</p>
      {fill.error && <Notice tone="problem">{fill.error.message}</Notice>}
    </div>
  );
}
