import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { Link, useParams } from "react-router";
import { api, type Schema, unwrap } from "../../api/client";
import { Notice } from "../../ui/Notice";

const KIND: Record<string, string> = {
  electrical: "Electrical: a meter or a lamp can find it",
  rationality: "Rationality: the value does not fit, the circuit may be sound",
  system: "System: a function failed, for whatever reason",
};

/** One generic code: what it says, what it does not say, where to look first. */
export default function CodePage() {
  const { code = "" } = useParams();
  const answer = useQuery({
    queryKey: ["code", code],
    queryFn: async () => unwrap(await api.GET("/api/v1/codes/{code}", { params: { path: { code } } })),
  });
  const page = answer.data;
  return (
    <main className="mx-auto max-w-4xl px-5 py-5">
      <p className="text-sm">
        <Link to="/codes" className="underline underline-offset-4">
          All codes
        </Link>
      </p>
      <h1 className="text-3xl">
        <span className="figure mr-3">{code}</span>
        {page?.meaning}
      </h1>
      {answer.error && <Notice tone="problem">{answer.error.message}</Notice>}
      {page && !page.held && <p className="mt-2 text-lg">{page.why_not}</p>}
      {page?.danger && (
        <div className="mt-3">
          <Notice tone="caution">{page.danger} Nothing is measured here.</Notice>
        </div>
      )}
      {page?.held && (
        <dl className="mt-4 grid gap-x-6 gap-y-3 sm:grid-cols-[12rem_1fr]">
          <Row name="Kind">{KIND[page.kind] ?? page.kind}</Row>
          <Row name="What sets it">{page.sets}</Row>
          <Row name="What it does not say">{page.not_said}</Row>
          {page.electrically && <Row name="Electrically">{page.electrically}</Row>}
          <Row name="First looks">
            <ol className="list-decimal pl-5">
              {page.looks.map((look) => (
                <li key={look} className="first-letter:uppercase">
                  {look}
                </li>
              ))}
            </ol>
          </Row>
          {page.circuit && (
            <Row name="Typical circuit">
              {page.circuit}. On a job with this code it is measured in two taps.
            </Row>
          )}
          {page.companions.length > 0 && (
            <Row name="Often stored with it">
              <Others codes={page.companions} />
            </Row>
          )}
          {page.mistaken_for.length > 0 && (
            <Row name="Mistaken for">
              <Others codes={page.mistaken_for} />
            </Row>
          )}
          <Row name="Source">
            The structure of the standard (ISO 15031-6), in Sondar's own words. What exactly sets it on a
            vehicle stands in the maker's documents.
          </Row>
        </dl>
      )}
    </main>
  );
}

function Row({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt className="text-soft">{name}</dt>
      <dd>{children}</dd>
    </>
  );
}

function Others({ codes }: { codes: Schema["OtherCode"][] }) {
  return (
    <ul>
      {codes.map((other) => (
        <li key={other.code}>
          <Link
            to={`/codes/${other.code}`}
            className="inline-block min-h-8 underline-offset-4 hover:underline"
          >
            <span className="figure mr-2">{other.code}</span>
            {other.meaning}
          </Link>
        </li>
      ))}
    </ul>
  );
}
