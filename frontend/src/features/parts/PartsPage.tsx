import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { api, type Schema, unwrap } from "../../api/client";
import { type Unit, useUnits } from "../../lib/units";
import { Notice } from "../../ui/Notice";

type Kind = Schema["PartKindView"];

/** The quick reference: any kind of part, by what somebody calls it or by how it shows that it fails. */
export default function PartsPage() {
  const [params, setParams] = useSearchParams();
  const said = params.get("said") ?? "";
  const chosen = params.get("kind") ?? "";
  const found = useQuery({
    queryKey: ["parts", said.trim()],
    placeholderData: keepPreviousData,
    queryFn: async () => unwrap(await api.GET("/api/v1/parts", { params: { query: { said: said.trim() } } })),
  });
  const kinds = found.data?.kinds ?? [];
  const shown = kinds.find((kind) => kind.id === chosen) ?? kinds[0];
  const set = (change: Record<string, string>) =>
    setParams((now) => ({ ...Object.fromEntries(now), ...change }), { replace: true });
  return (
    <main className="mx-auto grid max-w-6xl gap-x-10 px-5 py-5 lg:grid-cols-[minmax(16rem,1fr)_minmax(0,2fr)]">
      <div className="min-w-0">
        <h1 className="text-3xl">Parts</h1>
        <label className="my-3 block text-sm text-soft">
          What it is called, or how it shows: air mass, wiper, stalls when hot
          <input
            // biome-ignore lint/a11y/noAutofocus: the one thing one comes here for
            autoFocus
            value={said}
            maxLength={120}
            onChange={(event) => set({ said: event.target.value, kind: "" })}
            className="mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-3 text-base text-ink"
          />
        </label>
        {found.error && <Notice tone="problem">{found.error.message}</Notice>}
        {found.data && kinds.length === 0 && <p>No kind of part is called that. Another name?</p>}
        <ul
          className="border-t border-rule max-lg:mb-4 max-lg:max-h-64 max-lg:overflow-auto"
          aria-label="Kinds of parts"
          aria-busy={found.isFetching}
        >
          {kinds.map((kind) => (
            <li key={kind.id} className="border-b border-rule">
              <button
                type="button"
                aria-current={kind.id === shown?.id}
                className={`block min-h-11 w-full px-2 py-2 text-left ${kind.id === shown?.id ? "bg-depth-1 font-[650]" : ""}`}
                onClick={() => set({ kind: kind.id })}
              >
                {kind.title}
              </button>
            </li>
          ))}
        </ul>
      </div>
      {shown && <Reference kind={shown} />}
    </main>
  );
}

function Reference({ kind }: { kind: Kind }) {
  const { distance } = useUnits();
  const row = (label: string, value: string) =>
    value && (
      <div className="grid gap-x-4 border-t border-rule py-2 sm:grid-cols-[9rem_1fr]">
        <dt className="text-soft">{label}</dt>
        <dd>{value}</dd>
      </div>
    );
  return (
    <article className="min-w-0 lg:pt-3" aria-label={kind.title}>
      <h2 className="text-2xl">{kind.title}</h2>
      <p className="mb-2 text-soft">Also called: {kind.words.join(", ")}</p>
      {kind.caution && <Notice tone="caution">{kind.caution}</Notice>}
      <dl className="mt-3">
        {row("What it does", kind.does)}
        {row("Where it usually sits", kind.sits)}
        {row("What fails, and why", kind.fails)}
        {row("How it shows", kind.symptoms.join("; "))}
        {row("What is done", capital(kind.do))}
        {row("Cleaned with", capital(kind.cleaned_with))}
        {row("Never", capital(kind.never))}
        {row("Effort", `${capital(kind.effort)}, about ${kind.minutes} min`)}
        {row("Afterwards", kind.learn)}
        {row("Intervals", kind.intervals.map((one) => interval(one, distance)).join("; "))}
      </dl>
      <p className="mt-3 text-sm text-soft">
        What is usual for the kind. The maker's instructions, torque figures and service plan for the vehicle
        come first.
      </p>
      {kind.templates.length > 0 && (
        <Link
          to={`/describe?part=${encodeURIComponent(kind.title)}`}
          className="inline-block min-h-11 py-2 underline underline-offset-4"
        >
          Describe one from its wiring sheet
        </Link>
      )}
    </article>
  );
}

function interval(one: Kind["intervals"][number], distance: Unit): string {
  const figures = [
    one.km ? `${distance.show(one.km).toLocaleString("en")} ${distance.label}` : "",
    one.months ? `${one.months} months` : "",
    one.hours ? `${one.hours} hours` : "",
  ].filter(Boolean);
  return `${one.do} every ${figures.join(" or ")}`;
}

function capital(text: string): string {
  return text === "" ? "" : text[0]?.toUpperCase() + text.slice(1);
}
