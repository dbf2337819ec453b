import { useState } from "react";
import { ApiError, type Measuring, type Schema } from "../../../api/client";
import { Button } from "../../../ui/Button";
import { Notice } from "../../../ui/Notice";
import { useFillIn } from "./useFillIn";

type LookUp = Schema["LookUpView"];

/** Figures that are only typical here: what the published one would tell, where to enter it, and the way out if there is none. */
export function LookUps(props: {
  assessment: Measuring["assessment"];
  diagnosisId: string;
  canWrite: boolean;
  onNotFound: (figure: string) => void;
}) {
  const { look_ups, conclusion } = props.assessment;
  const first = look_ups[0];
  if (!first) return null;
  const before = first.before_measuring && !conclusion.settled;
  return (
    <section className="border-l-4 border-rule px-3 text-sm" aria-label="Look it up">
      <h3 className="text-base font-[700]">{before ? "Look it up first" : "Or look it up"}</h3>
      {look_ups.map((item) => (
        <OneLookUp key={`${item.part}.${item.field}`} item={item} {...props} />
      ))}
    </section>
  );
}

function OneLookUp(props: {
  item: LookUp;
  diagnosisId: string;
  canWrite: boolean;
  onNotFound: (figure: string) => void;
}) {
  const { item } = props;
  const [value, setValue] = useState("");
  const fill = useFillIn(props.diagnosisId, () => setValue(""));
  const said =
    fill.error instanceof ApiError ? (fill.error.problem.errors?.[0]?.message ?? fill.error.message) : "";
  return (
    <form
      className="my-1"
      onSubmit={(event) => {
        event.preventDefault();
        if (value.trim())
          fill.mutate([{ kind: "part", id: item.part, field: item.field, value: value.trim() }]);
      }}
    >
      <p>
        <strong className="font-[650]">{item.title}.</strong> The readings leave{" "}
        <span className="figure">{item.expected}</span> for a good part. {Math.round(item.minutes)} min, saves{" "}
        {Math.round(item.expected_saving_min)} min of expected loss.
      </p>
      {props.canWrite && (
        <p className="mt-1 flex flex-wrap items-center gap-2">
          <label className="flex items-center gap-2">
            Published{item.unit && `, ${item.unit}`}
            <input
              value={value}
              maxLength={80}
              onChange={(event) => setValue(event.target.value)}
              aria-invalid={said !== ""}
              className="figure min-h-11 w-36 rounded-sm border border-ink/60 bg-raised px-3 text-base"
            />
          </label>
          <Button type="submit" disabled={value.trim() === "" || fill.isPending}>
            {fill.isPending ? "Filling in …" : "Fill in"}
          </Button>
          <Button kind="quiet" onClick={() => props.onNotFound(`${item.part}.${item.field}`)}>
            Published nowhere
          </Button>
        </p>
      )}
      {said && <Notice tone="problem">{said}</Notice>}
    </form>
  );
}
