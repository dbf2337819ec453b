import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { ApiError, api, type Schema, unwrap } from "../../api/client";
import { percent } from "../../lib/format";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

type Wires = Schema["WiresView"];
type KindOfLook = Schema["WireReadingIn"]["kind"];

const LOOKS: KindOfLook[] = ["off", "on", "load", "up", "joined"];
const HEADS: Record<KindOfLook, string> = {
  off: "Key off, plug apart",
  on: "Key on, plug apart",
  load: "Key on, apart, 10 kΩ across",
  up: "The same against battery +",
  joined: "Key on, plug joined",
};
const place = (cavity: number, kind: KindOfLook) => `${cavity}.${kind}`;

/** Which wire is which: voltages at the harness side of the plug, in any order; the one that would tell most is marked. */
export function WireFinder(props: {
  wires: number;
  code: string;
  said: string;
  busy: boolean;
  onMeasure: (template: string, order: number[]) => void;
}) {
  const { wires, code, said } = props;
  const [typed, setTyped] = useState<Record<string, string>>({});
  const [kept, setKept] = useState<Record<string, string>>({});
  const readings = Object.entries(kept)
    .filter(([, entry]) => entry.trim() !== "")
    .map(([where, entry]) => {
      const [cavity, kind] = where.split(".");
      return { cavity: Number(cavity), kind: kind as KindOfLook, entry };
    });
  const found = useQuery({
    queryKey: ["wires", wires, code, said, readings],
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: async () => unwrap(await api.POST("/api/v1/wires", { body: { wires, code, said, readings } })),
  });
  const answer = found.data;
  const asked = answer?.asked ?? null;
  // Enter goes on to what is asked for next, as soon as that is known.
  const table = useRef<HTMLTableElement>(null);
  const entered = useRef(false);
  useEffect(() => {
    if (!entered.current || found.isFetching) return;
    entered.current = false;
    table.current?.querySelector<HTMLInputElement>("[data-next]")?.focus();
  }, [found.isFetching]);
  const keep = (where: string) => setKept((now) => ({ ...now, [where]: typed[where] ?? "" }));
  const trouble = found.error;
  return (
    <form
      className="min-h-0 flex-1 overflow-auto border-t border-rule pt-2"
      onSubmit={(event) => {
        event.preventDefault();
        entered.current = true;
        setKept((now) => ({ ...now, ...typed }));
      }}
      aria-label="Which wire is which"
    >
      <p className="mb-2 text-sm">
        Black probe on battery minus (against battery + only where it is asked for), red probe at the cavity
        on the harness side, by voltage only: no ohms and no lamp before it is known what is electronic.
        Caution: no probe at yellow restraint plugs and orange high-voltage plugs.
      </p>
      {trouble && (
        <Notice tone="problem">
          {trouble instanceof ApiError ? trouble.problem.detail : "The server does not answer. Try again."}
        </Notice>
      )}
      <table ref={table} className="w-full text-sm">
        <thead>
          <tr className="text-left align-bottom text-soft">
            <th className="py-1 font-[400]">Cavity</th>
            {LOOKS.map((kind) => (
              <th key={kind} className="px-1 py-1 font-[400]">
                {HEADS[kind]}
              </th>
            ))}
            <th className="py-1 pl-2 font-[400]">Carries</th>
          </tr>
        </thead>
        <tbody>
          {Array.from({ length: wires }, (_, index) => index + 1).map((cavity) => (
            <tr key={cavity} className="border-t border-rule">
              <td className="figure py-1 text-lg">{cavity}</td>
              {LOOKS.map((kind) => {
                const where = place(cavity, kind);
                const next = asked?.cavity === cavity && asked.kind === kind;
                return (
                  <td key={kind} className="px-1 py-1">
                    <label>
                      <span className="sr-only">
                        Cavity {cavity}, {HEADS[kind]}, V
                      </span>
                      <input
                        value={typed[where] ?? ""}
                        inputMode="decimal"
                        placeholder={next ? "next, V" : ""}
                        data-wire={where}
                        data-next={next || undefined}
                        onChange={(event) => setTyped((now) => ({ ...now, [where]: event.target.value }))}
                        onBlur={() => keep(where)}
                        className={`figure block min-h-11 w-full min-w-16 bg-raised px-2 text-base text-ink placeholder:text-soft ${next ? "border-b-4 border-next" : "border border-ink/60"}`}
                      />
                    </label>
                  </td>
                );
              })}
              <td className="py-1 pl-2" data-carries={answer?.cavities[cavity - 1]?.[0]?.carries ?? ""}>
                <Carries options={answer?.cavities[cavity - 1] ?? []} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Outcome answer={answer} busy={props.busy} onMeasure={props.onMeasure} />
      <button type="submit" className="sr-only">
        Take the readings
      </button>
    </form>
  );
}

function Carries({ options }: { options: Schema["CarriesView"][] }) {
  const [first, second] = options;
  if (!first) return null;
  return (
    <>
      <strong className="font-[650]">{first.carries}</strong>{" "}
      <span className="figure">{percent(first.probability)}</span>
      {second && first.probability < 0.9 && (
        <span className="block text-soft">
          or {second.carries} {percent(second.probability)}
        </span>
      )}
    </>
  );
}

function Outcome(props: {
  answer: Wires | undefined;
  busy: boolean;
  onMeasure: (template: string, order: number[]) => void;
}) {
  const { answer } = props;
  if (!answer) return null;
  return (
    <div className="mt-3 flex items-center gap-3" role="status" data-testid="wires-outcome">
      <p className="min-w-0 flex-1">
        {answer.certain ? (
          <>
            <strong className="font-[650]">Told apart, {percent(answer.certainty)}.</strong> Most like:{" "}
            {answer.title}.
          </>
        ) : answer.asked ? (
          <>
            Next: cavity <strong className="figure">{answer.asked.cavity}</strong>, {answer.asked.title}. So
            far {percent(answer.certainty)}.
          </>
        ) : (
          <>
            No further voltage would tell them apart. The likeliest order is {percent(answer.certainty)} sure.
          </>
        )}
      </p>
      <Button
        kind={answer.certain ? "next" : "plain"}
        disabled={props.busy}
        onClick={() => props.onMeasure(answer.template, answer.order)}
      >
        {answer.certain ? "Measure with this" : "Measure all the same"}
      </Button>
    </div>
  );
}
