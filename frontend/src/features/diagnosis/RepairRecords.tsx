import { useQuery } from "@tanstack/react-query";
import type { JobDetail } from "../../api/client";
import { listsQuery } from "../../api/queries";
import { Notice } from "../../ui/Notice";
import { RecordedLines } from "./RecordedLines";

interface Props {
  detail: JobDetail;
  units: { unit: string; title: string }[];
  canWrite: boolean;
}

/** Parts that were fitted: both numbers, where from, and whether they were checked before they went in. */
export function PartsFitted({ detail, units, canWrite }: Props) {
  const words = useQuery(listsQuery).data?.repair;
  return (
    <RecordedLines
      detail={detail}
      answer="parts"
      title="Parts fitted"
      canWrite={canWrite}
      open="Add a part"
      add="Add the part"
      fields={[
        { name: "what", label: "Part", initial: units[0]?.title, required: true },
        { name: "old", label: "Number on the old one", most: 80 },
        { name: "fitted", label: "Number of the one fitted", most: 80 },
        { name: "condition", label: "Condition", kind: "choice", choices: words?.part_conditions },
        { name: "supplier", label: "Supplier", most: 80 },
        { name: "price", label: "Price", most: 80 },
        { name: "checked", label: "Checked before it goes in", kind: "choice", choices: words?.part_checked },
        { name: "note", label: "Note", placeholder: "7.4 Ω on the bench" },
      ]}
      remark={({ condition, old, fitted }) => (
        <>
          {condition === "used" && (
            <Notice tone="caution">
              A used module may be locked to its former vehicle, and a used restraint part is not fitted. Ask
              the maker&apos;s instructions before it is bought.
            </Notice>
          )}
          {old?.trim() && fitted?.trim() && old.trim() !== fitted.trim() && (
            <Notice tone="note">
              The numbers differ. Make sure that the new one replaces the old one on this vehicle.
            </Notice>
          )}
        </>
      )}
      tell={({ what, old, fitted, condition, supplier, price, checked, note }) => (
        <>
          {what}
          <span className="text-soft">
            ,{" "}
            {[
              condition,
              old && `number on the old one ${old}`,
              fitted && `fitted ${fitted}`,
              supplier && `from ${supplier}`,
              price,
              checked === "bad" ? "" : `checked: ${checked}`,
              note,
            ]
              .filter(Boolean)
              .join(", ")}
          </span>
          {checked === "bad" && (
            <strong className="block font-[700]">This new part is bad: it does not go in.</strong>
          )}
        </>
      )}
    />
  );
}

/** What was seen of the parts that were taken out: it says whether the diagnosis was right, and why they failed. */
export function RemovedParts({ detail, units, canWrite }: Props) {
  const words = useQuery(listsQuery).data?.repair;
  return (
    <RecordedLines
      detail={detail}
      answer="removed_parts"
      title="Parts that were taken out"
      canWrite={canWrite}
      open="Record what a removed part looks like"
      add="Add the inspection"
      fields={[
        { name: "what", label: "Part", initial: units[0]?.title, required: true },
        { name: "wear", label: "State", kind: "choice", choices: words?.wear },
        {
          name: "seen",
          label: "What was seen",
          placeholder: "soot on the shaft, turns by jerks",
          required: true,
        },
        { name: "compared", label: "Compared with", kind: "choice", choices: words?.compared },
        { name: "photo", label: "Picture", kind: "picture" },
      ]}
      tell={({ what, wear, seen, compared }) => (
        <>
          <strong className="font-[650]">{what}</strong>: {wear}; {seen}
          {compared !== "nothing" && <span className="text-soft">, compared with {compared}</span>}
          {wear === "nothing to be seen" && (
            <span className="block">Nothing to be seen of it: keep it until the repair is proved.</span>
          )}
        </>
      )}
    />
  );
}

/** Thresholds and other settings of a module that were changed: old, new, who asked, and the way back. */
export function SettingsChanged({ detail, canWrite }: Omit<Props, "units">) {
  return (
    <RecordedLines
      detail={detail}
      answer="settings_changed"
      title="Settings that were changed"
      canWrite={canWrite}
      open="Record a changed setting"
      add="Add the setting"
      caution="Read the old value out first and keep it here. Limits that the law or the maker sets for safety and emissions stay as they are."
      fields={[
        {
          name: "what",
          label: "What was set",
          placeholder: "idle speed with the window heated",
          required: true,
        },
        { name: "old", label: "Old value", most: 60, required: true },
        { name: "new", label: "New value", most: 60, required: true },
        { name: "by", label: "Asked for by", most: 80, placeholder: "the customer", required: true },
        { name: "note", label: "Note of law or safety", placeholder: "within the maker's range" },
        {
          name: "back",
          label: "How to set it back",
          placeholder: "basic setting 12, value 720",
          required: true,
        },
      ]}
      tell={({ what, old, new: now, by, note, back }) => (
        <>
          <strong className="font-[650]">{what}</strong>: {old} → {now}, asked for by {by}
          {note && `; ${note}`}
          <span className="text-soft">; back: {back}</span>
        </>
      )}
    />
  );
}

/** What was bypassed to get home or to test: a finding that is kept until it is taken out, and never a repair. */
export function Bypasses({ detail, canWrite }: Omit<Props, "units">) {
  const words = useQuery(listsQuery).data?.repair;
  return (
    <RecordedLines
      detail={detail}
      answer="bypasses"
      title="Temporary bypasses"
      canWrite={canWrite}
      open="Record a temporary bypass"
      add="Record the bypass"
      caution="A bypass is no repair. Nothing of brakes, steering, restraint, high voltage or emission control is bypassed; the fuse stays the one that belongs there. The job is not closed as fixed while one is in place."
      fields={[
        {
          name: "what",
          label: "What was bypassed, and with what",
          placeholder: "fan relay, wire with a 30 A fuse",
          required: true,
        },
        { name: "why", label: "Why", placeholder: "to drive home, 12 km", required: true },
        { name: "until", label: "To be taken out by", most: 60, placeholder: "Friday" },
        { name: "state", label: "State", kind: "choice", choices: words?.bypass_states },
      ]}
      change={{
        words: "It has been taken out",
        applies: ({ state }) => state === "in place",
        to: (values) => ({ ...values, state: "taken out" }),
      }}
      tell={({ what, why, until, state }) => (
        <>
          <strong className="font-[650]">{what}</strong>: {state}; {why}
          {until && state === "in place" && <span className="text-soft">, until {until}</span>}
        </>
      )}
    />
  );
}
