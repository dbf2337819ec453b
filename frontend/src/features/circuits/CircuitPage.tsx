import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, type TestIn, unwrap } from "../../api/client";
import { circuitQuery } from "../../api/queries";
import { Headline } from "../../app/Headline";
import { when } from "../../lib/format";
import { Notice } from "../../ui/Notice";
import { sheetPicture } from "../describe/SheetPictures";
import { withConnector, withNextPosition } from "../measure/draft/tests";
import { CircuitDrawing } from "../measure/drawing/CircuitDrawing";
import { ConnectorFace } from "../measure/drawing/ConnectorFace";

/** Reading up a circuit: what it does, how it is wired, what it must show, what is done about its parts. */
export default function CircuitPage() {
  const { versionId } = useParams();
  const { data: circuit, error } = useQuery(circuitQuery(versionId));
  const [setup, setSetup] = useState<TestIn["setup"]>({ controls: {}, unplugged: [] });
  const [face, setFace] = useState<string | null>(null);
  if (error && !circuit) {
    return (
      <main className="mx-auto max-w-3xl p-6">
        <Notice tone="problem">
          {error.message} <Link to="/circuits">All circuits.</Link>
        </Notice>
      </main>
    );
  }
  if (!circuit) return <main className="p-6">Drawing the circuit …</main>;
  // Nothing is measured here: the drawing only needs to know what is disconnected and where the controls stand.
  const still: TestIn = { instrument: "", red: "", black: "", setup };
  return (
    <main className="grid gap-x-8 px-5 py-4 lg:grid-cols-[minmax(380px,1fr)_minmax(0,1.1fr)]">
      <Headline>
        <h1 className="text-lg">
          {circuit.title} <span className="text-sm font-[400] text-soft">{circuit.make}</span>
        </h1>
      </Headline>
      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        aria-label="Circuit drawing"
        data-testid="drawing"
        className="overflow-auto"
      >
        <CircuitDrawing
          circuit={circuit}
          readings={[]}
          weights={{}}
          test={still}
          expected={null}
          onPoint={(ref) => setFace(circuit.points.find((point) => point.ref === ref)?.connector ?? null)}
          onConnector={(connector) => setSetup(withConnector(still, connector).setup)}
          onControl={(control) => setSetup(withNextPosition(circuit, still, control).setup)}
        />
      </section>
      <div className="min-w-0 space-y-5">
        <section>
          <p className="text-lg leading-snug">{circuit.about}</p>
          <p className="text-sm text-soft">
            Synonyms: {circuit.synonyms.join(", ")}.{" "}
            {circuit.complaint && `Usual complaint: ${circuit.complaint}`}
          </p>
          <p className="flex flex-wrap gap-x-5">
            {circuit.sheet && (
              <Link
                to={`/describe/${circuit.version_id}`}
                className="min-h-11 py-2 underline underline-offset-4"
              >
                Describe it further
              </Link>
            )}
            <a
              className="min-h-11 py-2 underline underline-offset-4"
              download={`${circuit.slug}.yaml`}
              href={`data:text/yaml;charset=utf-8,${encodeURIComponent(circuit.source_text)}`}
            >
              Circuit file (YAML)
            </a>
          </p>
          {(circuit.sheet?.pictures ?? []).length > 0 && (
            <p className="my-2 flex flex-wrap gap-2">
              {(circuit.sheet?.pictures ?? []).map((id, index) => (
                <a key={id} href={sheetPicture(id)} target="_blank" rel="noreferrer">
                  <img
                    src={sheetPicture(id, "thumbnail")}
                    alt={`Wiring sheet, page ${index + 1}`}
                    className="h-20 border border-rule"
                  />
                </a>
              ))}
            </p>
          )}
          {circuit.cautions.map((caution) => (
            <Notice key={caution} tone="caution">
              {caution}
            </Notice>
          ))}
        </section>
        <section>
          <h2 className="text-xl">Pins</h2>
          {circuit.connectors.map((connector) => (
            <table key={connector.id} className="mb-3 w-full text-sm">
              <caption className="text-left">
                <strong className="font-[650]">
                  {connector.title} {connector.id}
                </strong>
                <span className="text-soft">
                  {connector.place && `, ${connector.place}`}, {connector.access_min} min to reach
                </span>{" "}
                <button
                  type="button"
                  className="min-h-6 underline underline-offset-4"
                  onClick={() => setFace(connector.id)}
                >
                  its face
                </button>
              </caption>
              <tbody>
                {connector.cavities.map((cavity) => (
                  <tr key={cavity.number} className="border-t border-rule">
                    <th scope="row" className="figure w-10 py-0.5 text-left">
                      {cavity.number}
                    </th>
                    <td>{cavity.colour}</td>
                    <td className="text-soft">{cavity.behind}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          ))}
        </section>
        <section>
          <h2 className="text-xl">Limits</h2>
          <table className="w-full text-sm">
            <tbody>
              {circuit.limits.map((limit) => (
                <tr key={limit.id} className="border-t border-rule align-top">
                  <th scope="row" className="py-1 pr-2 text-left font-[400]">
                    {limit.title}
                  </th>
                  <td className="figure py-1 pr-3 whitespace-nowrap">{limit.range}</td>
                  <td className="py-1 text-soft">
                    {limit.typical && `usually ${limit.typical}; `}
                    {limit.source}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </section>
        {circuit.codes.length > 0 && (
          <section>
            <h2 className="text-xl">Codes</h2>
            <ul className="text-sm">
              {circuit.codes.map((code) => (
                <li key={code.code} className="border-t border-rule py-1">
                  <strong className="font-[650]">{code.code}</strong> {code.title}{" "}
                  <span className="text-soft">
                    ({code.module}) {code.about}
                  </span>
                </li>
              ))}
            </ul>
          </section>
        )}
        <section>
          <h2 className="text-xl">Service</h2>
          <Link
            to={`/parts?said=${encodeURIComponent(circuit.title.replace(/, typical$/, ""))}`}
            className="inline-block min-h-11 py-2 text-sm underline underline-offset-4"
          >
            What is said of this kind of part
          </Link>
          <ul className="text-sm">
            {circuit.service.map((note) => (
              <li key={note.part} className="border-t border-rule py-1">
                <strong className="font-[650]">{note.part}</strong>: {note.do}, {note.difficulty}. {note.note}
                {note.teach_in && ` Initialise: ${note.teach_in}`}
              </li>
            ))}
          </ul>
        </section>
        <Versions versionId={circuit.version_id} />
      </div>
      <ConnectorFace
        connector={circuit.connectors.find((item) => item.id === face) ?? null}
        test={null}
        onClose={() => setFace(null)}
        onPoint={() => undefined}
      />
    </main>
  );
}

/** What changed from one version to the next; nothing while there is only one. */
function Versions({ versionId }: { versionId: string }) {
  const { data } = useQuery({
    queryKey: ["circuit", versionId, "versions"],
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/circuits/{version_id}/versions", {
          params: { path: { version_id: versionId } },
        }),
      ),
  });
  if (!data || data.versions.length < 2) return null;
  return (
    <section aria-label="Versions">
      <h2 className="text-xl">Versions</h2>
      <ul className="text-sm">
        {data.versions.map((one) => (
          <li key={one.version_id} className="border-t border-rule py-1">
            {one.version_id === versionId ? (
              <strong className="font-[650]">Version {one.version}, shown here</strong>
            ) : (
              <Link className="underline underline-offset-4" to={`/circuits/${one.version_id}`}>
                Version {one.version}
              </Link>
            )}
            , {when(one.at)}
            {one.changed.length > 0 && (
              <ul className="list-disc pl-5 text-soft">
                {one.changed.map((text) => (
                  <li key={text}>{text}</li>
                ))}
              </ul>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}
