import { Link } from "react-router";
import type { JobDetail } from "../../api/client";
import { useMe } from "../../api/session";
import { when } from "../../lib/format";
import { Picks } from "../../ui/Picks";
import { useAnswer } from "./useAnswer";

const CAUSES = ["same cause", "another cause", "not known"];

/** The vehicle has been here not long ago: which job that was, and whether it is back for the same cause. */
export function CameBack({ detail }: { detail: JobDetail }) {
  const lead = useMe().data?.role === "lead";
  const held = useAnswer<string>(detail, "return_cause", "");
  const last = detail.returned;
  if (!last) return null;
  return (
    <section
      aria-label="Back again"
      className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule bg-raised px-5 py-1 text-sm"
    >
      <p className="min-w-60 flex-1">
        <strong className="font-[650]">Back again.</strong> Here on {when(last.at)}:{" "}
        <Link to={`/jobs/${last.id}`} className="underline underline-offset-4">
          job {last.number}
        </Link>
        {last.complaint && `, ${last.complaint}`} {last.conclusion && `Found then: ${last.conclusion}`}
      </p>
      <Picks
        label="Is it the same cause?"
        single
        disabled={!lead || held.saving}
        options={CAUSES.map((key) => ({ key, title: key }))}
        chosen={held.value ? [held.value] : []}
        onChange={([value = ""]) => held.answer(value)}
      />
      {!lead && held.value === "" && <span className="text-soft">A workshop lead says whether it is.</span>}
      {held.problem && <span role="alert">{held.problem.detail}</span>}
    </section>
  );
}
