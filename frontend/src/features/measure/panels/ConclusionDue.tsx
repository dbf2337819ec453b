import type { Schema } from "../../../api/client";
import { Button } from "../../../ui/Button";
import { keySign } from "../hotkeys/commands";

/** Further measuring is no longer worth its minutes: what is wrong, and the step to the diagnosis. */
export function ConclusionDue(props: {
  conclusion: Schema["ConclusionView"];
  busy: boolean;
  onConclude: () => void;
}) {
  return (
    <section aria-label="Ready to conclude" className="border-l-4 border-next bg-raised px-3 py-2">
      <h2 className="text-xl leading-snug">{props.conclusion.sentence}</h2>
      <p className="mb-2 text-sm text-soft">Further measuring is not needed: {props.conclusion.reason}.</p>
      <Button kind="next" onClick={() => props.onConclude()} disabled={props.busy}>
        Conclude ({keySign("conclude")})
      </Button>
    </section>
  );
}
