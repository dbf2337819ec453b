import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useDeferredValue, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, type Schema, unwrap } from "../../api/client";
import { circuitsQuery } from "../../api/queries";
import { Headline } from "../../app/Headline";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { TextField } from "../../ui/TextField";

type Wanted = Required<Schema["GatherIn"]>;
type Gathered = Schema["GatheredCircuit"];

const ONE_OR_TWO = [
  { key: "same", title: "the same" },
  { key: "two", title: "two things" },
];

/** Circuits that were described one by one become the vehicle of the workshop: what they share is confirmed, codes are tied to them. */
export default function GatherPage() {
  const [query] = useSearchParams();
  const navigate = useNavigate();
  const client = useQueryClient();
  const circuits = useQuery(circuitsQuery);
  const [make, setMake] = useState(query.get("make") ?? "");
  const [model, setModel] = useState(query.get("model") ?? "");
  const [years, setYears] = useState("");
  const [chosen, setChosen] = useState<string[] | null>(null);
  const [same, setSame] = useState<Record<string, boolean>>({});
  const [codes, setCodes] = useState<Record<string, string[]>>({});
  const [symptoms, setSymptoms] = useState<Record<string, string[]>>({});
  const all = circuits.data?.circuits ?? [];
  const plain = (text: string) => text.trim().toLowerCase();
  const own = all.filter((one) => plain(one.make) === plain(make));
  const usual = own.filter((one) => model !== "" && plain(one.model) === plain(model)).map((one) => one.slug);
  const slugs = chosen ?? usual;
  const wanted: Wanted = {
    make: make.trim(),
    model: model.trim(),
    years: /^(\d{4}([-–]\d{4})?)?$/.test(years.trim()) ? years.trim() : "",
    circuits: slugs,
    same,
    codes: pick(codes, slugs),
    symptoms: pick(symptoms, slugs),
  };
  const asked = useDeferredValue(wanted);
  const ready = wanted.make !== "" && wanted.model !== "" && slugs.length > 0;
  const seen = useQuery({
    queryKey: ["gather", asked],
    enabled: ready,
    retry: false,
    placeholderData: keepPreviousData,
    queryFn: async () => unwrap(await api.POST("/api/v1/vehicle-models/preview", { body: asked })),
  });
  const keep = useMutation({
    mutationFn: async () => unwrap(await api.POST("/api/v1/vehicle-models/gathered", { body: wanted })),
    onSuccess: (kept) => {
      client.invalidateQueries();
      navigate(`/vehicles/${kept.slug}`);
    },
  });
  const found = ready ? seen.data : undefined;
  const trouble = seen.error ?? keep.error ?? circuits.error;
  return (
    <main className="grid gap-x-10 gap-y-5 px-5 py-4 lg:grid-cols-[minmax(18rem,1fr)_minmax(0,1.8fr)]">
      <Headline>
        <h1 className="text-lg">Circuits of one vehicle</h1>
      </Headline>
      <div className="min-w-0 space-y-4">
        <section aria-label="Vehicle" className="grid grid-cols-3 gap-3">
          <TextField
            label="Make"
            value={make}
            maxLength={60}
            onChange={(event) => {
              setMake(event.target.value);
              setChosen(null);
            }}
          />
          <TextField
            label="Model"
            value={model}
            maxLength={60}
            onChange={(event) => {
              setModel(event.target.value);
              setChosen(null);
            }}
          />
          <TextField
            label="Years"
            value={years}
            maxLength={9}
            placeholder="2018-2023"
            onChange={(event) => setYears(event.target.value)}
          />
        </section>
        <section aria-label="Circuits">
          <h2 className="text-lg">Circuits that belong to it</h2>
          {make.trim() !== "" && own.length === 0 && (
            <p className="text-soft">
              No circuit of this make is known yet. Describe one from its sheet first.
            </p>
          )}
          <ul className="border-t border-rule">
            {own.map((one) => (
              <li key={one.slug} className="border-b border-rule">
                <label className="flex min-h-11 items-center gap-3 py-1">
                  <input
                    type="checkbox"
                    className="h-5 w-5"
                    checked={slugs.includes(one.slug)}
                    onChange={() =>
                      setChosen(
                        slugs.includes(one.slug)
                          ? slugs.filter((slug) => slug !== one.slug)
                          : [...slugs, one.slug],
                      )
                    }
                  />
                  <span>
                    {one.title} <span className="text-soft">{one.model}</span>
                  </span>
                </label>
              </li>
            ))}
          </ul>
        </section>
      </div>
      <div className="min-w-0 space-y-5" aria-busy={seen.isFetching}>
        {!ready && (
          <p className="text-soft">
            With a make, a model and the circuits that belong to it, Sondar says what they share. Then codes
            and symptoms lead to the right circuit, and a fault in a shared fuse, ground or joint is seen as
            one.
          </p>
        )}
        {trouble && <Notice tone="problem">{trouble.message}</Notice>}
        {ready && !found && !trouble && <p className="text-soft">Looking at what they share …</p>}
        {found && (
          <>
            {found.problems.map((problem) => (
              <Notice key={problem} tone="problem">
                {problem}
              </Notice>
            ))}
            <Shared found={found} onDecide={(id, is) => setSame((now) => ({ ...now, [id]: is }))} />
            {found.circuits.map((one) => (
              <Ties
                key={one.slug}
                circuit={one}
                codes={codes[one.slug] ?? []}
                symptoms={symptoms[one.slug] ?? []}
                onCodes={(next) => setCodes((now) => ({ ...now, [one.slug]: next }))}
                onSymptoms={(next) => setSymptoms((now) => ({ ...now, [one.slug]: next }))}
              />
            ))}
            <div className="sticky bottom-0 border-t border-rule bg-paper py-2">
              <Button
                kind="next"
                disabled={found.problems.length > 0 || keep.isPending || seen.isFetching}
                onClick={() => keep.mutate()}
              >
                {keep.isPending ? "Keeping …" : "Keep the vehicle"}
              </Button>
            </div>
          </>
        )}
      </div>
    </main>
  );
}

function pick(of: Record<string, string[]>, slugs: string[]): Record<string, string[]> {
  return Object.fromEntries(
    Object.entries(of).filter(([slug, list]) => slugs.includes(slug) && list.length > 0),
  );
}

/** Names that stand in several circuits: the same thing, or two? */
function Shared(props: { found: Schema["GatherView"]; onDecide: (id: string, same: boolean) => void }) {
  const { found, onDecide } = props;
  return (
    <section aria-label="What they share">
      <h2 className="text-lg">What they share</h2>
      {found.questions.length === 0 && <p className="text-soft">Nothing but the battery.</p>}
      <ul className="border-t border-rule">
        {found.questions.map((question) => (
          <li
            key={question.id}
            data-question={question.id}
            className="grid items-center gap-x-4 gap-y-1 border-b border-rule py-1.5 sm:grid-cols-[1fr_auto]"
          >
            <span>
              <strong className="font-[650]">{question.title}</strong>{" "}
              {question.title.includes(question.id) ? "" : question.id}
              <span className="block text-sm text-soft">
                in {question.circuits.join(", ")}; {question.why}
              </span>
            </span>
            <Picks
              label={`${question.id}: the same or two things`}
              single
              options={ONE_OR_TWO}
              chosen={[question.same ? "same" : "two"]}
              onChange={([key]) => onDecide(question.id, key === undefined ? !question.same : key === "same")}
            />
          </li>
        ))}
      </ul>
      {found.differs.map((line) => (
        <Notice key={line} tone="note">
          Known differently: {line}. The first is taken.
        </Notice>
      ))}
    </section>
  );
}

/** How well a circuit is known, and which codes and symptoms lead to it. */
function Ties(props: {
  circuit: Gathered;
  codes: string[];
  symptoms: string[];
  onCodes: (codes: string[]) => void;
  onSymptoms: (symptoms: string[]) => void;
}) {
  const { circuit, codes, symptoms, onCodes, onSymptoms } = props;
  const [code, setCode] = useState("");
  const [symptom, setSymptom] = useState("");
  const typed = code.trim().toUpperCase();
  const fits = /^[PCBU][0-9A-F]{4}$/.test(typed);
  const there = circuit.codes.map((one) => one.code);
  const meanings = new Map([...circuit.codes, ...circuit.likely].map((one) => [one.code, one.meaning]));
  const offered = [...new Set([...codes, ...circuit.likely.map((one) => one.code)])].sort();
  const add = () => {
    if (!fits) return;
    onCodes([...new Set([...codes, typed])]);
    setCode("");
  };
  const addSymptom = () => {
    if (symptom.trim().length < 2) return;
    onSymptoms([...new Set([...symptoms, symptom.trim()])]);
    setSymptom("");
  };
  return (
    <section aria-label={circuit.title}>
      <h2 className="text-lg">{circuit.title}</h2>
      <p className="text-sm text-soft">
        {count(circuit.known, "figure")} known of this vehicle, {circuit.typical} typical for the kind
        {circuit.open > 0 &&
          `; it may be built in ${circuit.open === 1 ? "one other way" : `${circuit.open} other ways`}`}
        .
      </p>
      {there.filter((one) => !codes.includes(one)).length > 0 && (
        <p className="text-sm">Codes in its file: {there.filter((one) => !codes.includes(one)).join(", ")}</p>
      )}
      <div className="mt-1 flex flex-wrap items-center gap-2">
        {offered.length > 0 && (
          <Picks
            label={`Codes of ${circuit.title}`}
            options={offered.map((one) => ({ key: one, title: `${one} ${meanings.get(one) ?? ""}` }))}
            chosen={codes}
            onChange={onCodes}
          />
        )}
        <input
          aria-label={`Another code of ${circuit.title}`}
          placeholder="P0443"
          maxLength={5}
          value={code}
          onChange={(event) => setCode(event.target.value)}
          onKeyDown={(event) => event.key === "Enter" && add()}
          className="min-h-11 w-24 rounded-sm border border-ink/60 bg-raised px-3"
        />
        <Button disabled={!fits} onClick={add}>
          Add the code
        </Button>
      </div>
      <div className="mt-1.5 flex flex-wrap items-center gap-2">
        {symptoms.length > 0 && (
          <Picks
            label={`Symptoms of ${circuit.title}`}
            options={symptoms.map((one) => ({ key: one, title: one }))}
            chosen={symptoms}
            onChange={onSymptoms}
          />
        )}
        <input
          aria-label={`A symptom of ${circuit.title}`}
          placeholder="how it shows, without a code"
          maxLength={80}
          value={symptom}
          onChange={(event) => setSymptom(event.target.value)}
          onKeyDown={(event) => event.key === "Enter" && addSymptom()}
          className="min-h-11 w-64 rounded-sm border border-ink/60 bg-raised px-3"
        />
        <Button disabled={symptom.trim().length < 2} onClick={addSymptom}>
          Add the symptom
        </Button>
      </div>
    </section>
  );
}

function count(number: number, thing: string): string {
  return `${number} ${thing}${number === 1 ? "" : "s"}`;
}
