import { useQuery } from "@tanstack/react-query";
import type { JobDetail } from "../../api/client";
import { listsQuery } from "../../api/queries";
import { RecordedLines } from "./RecordedLines";

interface Props {
  detail: JobDetail;
  wires: { unit: string; title: string }[];
  canWrite: boolean;
}

/** How a wire was repaired: where, by how much it was lengthened, how it was joined and sealed, with its pictures. */
export function HarnessRepairs({ detail, wires, canWrite }: Props) {
  const words = useQuery(listsQuery).data?.repair;
  const recorded = Array.isArray(detail.answers.harness_repairs?.value)
    ? detail.answers.harness_repairs.value.length
    : 0;
  if (wires.length === 0 && recorded === 0) return null;
  return (
    <RecordedLines
      detail={detail}
      answer="harness_repairs"
      title="Harness repairs"
      canWrite={canWrite && wires.length > 0}
      open="Record how a wire was repaired"
      add="Add the harness repair"
      fields={[
        { name: "wire", label: "Wire", kind: "choice", choices: wires.map((one) => one.title) },
        { name: "place", label: "Where", most: 120, placeholder: "20 cm behind X12, under the bumper" },
        { name: "added", label: "Lengthened by, mm", kind: "number" },
        { name: "method", label: "How", kind: "choice", choices: words?.harness_methods },
        { name: "seal", label: "Sealed with", most: 80, placeholder: "shrink tube with adhesive" },
        { name: "before", label: "Picture before", kind: "picture" },
        { name: "after", label: "Picture after", kind: "picture" },
      ]}
      tell={({ wire, place, added, method, seal }) => (
        <>
          <strong className="font-[650]">{wire}</strong>: {method}
          {place && `, ${place}`}
          {added && `, ${added} mm added`}
          {seal && `, ${seal}`}
        </>
      )}
    />
  );
}
