import type { Measuring } from "../../../api/client";
import { Notice } from "../../../ui/Notice";

/** What the readings have taught about the vehicle whatever is wrong with it, and which of them go with nothing. */
export function Learned({ assessment }: { assessment: Measuring["assessment"] }) {
  const { learned, misfits } = assessment;
  return (
    <>
      {misfits.map((text) => (
        <Notice key={text} tone="note">
          {text}
        </Notice>
      ))}
      {learned.length > 0 && (
        <div className="border-l-4 border-rule px-3 text-sm" role="note">
          <strong className="mr-2 font-[700]">Learned</strong>
          {learned.join(" ")}
        </div>
      )}
    </>
  );
}
