import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type Schema, unwrap } from "../../api/client";
import { Notice } from "../../ui/Notice";
import type { Span } from "./useView";

type Check = Schema["CheckView"];

const VERDICTS: Record<Check["verdict"], { words: string; look: string }> = {
  differs: { words: "does not fit", look: "-mx-2 bg-buff px-2" },
  agrees: { words: "fits", look: "" },
  "not told": { words: "not told", look: "text-soft" },
};

/** Whether the channels of a stretch fit together by physics: what differs comes first, each with its reason and its place in the strips. */
export function FitsTogether(props: {
  recordingId: string;
  stretch: Span;
  onLit: (span: Span | null) => void;
}) {
  const { recordingId, stretch } = props;
  const [typed, setTyped] = useState("");
  const given = Number(typed.replace(",", "."));
  const displacement_l = typed !== "" && given >= 0.02 && given <= 30 ? given : undefined;
  const { data, error } = useQuery({
    queryKey: ["recording-plausibility", recordingId, stretch, displacement_l],
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async ({ signal }) =>
      unwrap(
        await api.GET("/api/v1/recordings/{recording_id}/plausibility", {
          params: {
            path: { recording_id: recordingId },
            query: { start_s: stretch[0], end_s: stretch[1], displacement_l },
          },
          signal,
        }),
      ),
  });
  if (error)
    return (
      <Notice tone="problem">
        {error instanceof ApiError ? error.problem.detail : "The server does not answer."}
      </Notice>
    );
  if (!data || data.checks.length === 0) return null;
  const asksForDisplacement = data.checks.some((one) => one.id === "air-mass");
  const wrong = data.checks.filter((one) => one.verdict === "differs");
  const others = data.checks.filter((one) => one.verdict !== "differs");
  const fitting = others.filter((one) => one.verdict === "agrees").length;
  return (
    <section aria-label="Does it fit together?" className="mb-3 border-t border-rule pt-2 text-sm">
      <h2 className="text-base">Does it fit together?</h2>
      <ul>
        {wrong.map((check) => (
          <Line key={check.id} check={check} onLit={props.onLit} />
        ))}
      </ul>
      {others.length > 0 && (
        <details open={wrong.length === 0 && fitting === 0}>
          <summary className="min-h-9 cursor-pointer py-1 text-soft">
            {[
              fitting > 0 && `${fitting} ${fitting === 1 ? "check fits" : "checks fit"}`,
              others.length > fitting && `${others.length - fitting} cannot be made`,
            ]
              .filter(Boolean)
              .join(", ")}
          </summary>
          <ul>
            {others.map((check) => (
              <Line key={check.id} check={check} onLit={props.onLit} />
            ))}
          </ul>
        </details>
      )}
      {asksForDisplacement && (
        <label className="mt-1 flex items-center gap-2 text-soft">
          Displacement
          <input
            className="min-h-11 w-20 rounded-sm border border-ink/60 bg-raised px-2 text-ink"
            inputMode="decimal"
            value={typed}
            placeholder={data.displacement_l === null ? "" : String(data.displacement_l)}
            onChange={(event) => setTyped(event.target.value)}
          />
          litres{data.known && typed === "" ? ", from the job" : ""}
        </label>
      )}
    </section>
  );
}

function Line({ check, onLit }: { check: Check; onLit: (span: Span | null) => void }) {
  const [open, setOpen] = useState(false);
  const verdict = VERDICTS[check.verdict];
  return (
    <li className={`border-t border-rule ${verdict.look}`} data-check={check.id} data-verdict={check.verdict}>
      <button
        type="button"
        aria-expanded={open}
        className="block min-h-9 w-full py-1 text-left"
        onClick={() => {
          setOpen(!open);
          onLit(open || check.end_s <= check.start_s ? null : [check.start_s, check.end_s]);
        }}
      >
        <span className="font-[650]">{check.title}</span> {verdict.words}.{" "}
        <span className="text-soft">{check.words}</span>
      </button>
      {open && (
        <p className="pb-2 text-soft">
          {check.because} {check.channels.length > 0 && `From ${[...new Set(check.channels)].join(", ")}.`}
        </p>
      )}
    </li>
  );
}
