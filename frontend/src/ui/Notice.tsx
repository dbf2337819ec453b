import type { ReactNode } from "react";

const WORDS = { caution: "Caution", problem: "Error", note: "Note" } as const;

/** A message that must be seen: said by a word and a bar, not by colour. */
export function Notice({ tone, children }: { tone: keyof typeof WORDS; children: ReactNode }) {
  return (
    <div
      role={tone === "problem" ? "alert" : "note"}
      className="border-l-4 border-ink bg-buff px-3 py-2 text-sm"
    >
      <strong className="mr-2 font-[700]">{WORDS[tone]}</strong>
      {children}
    </div>
  );
}
