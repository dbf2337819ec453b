import { useQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import { api, unwrap } from "../../api/client";
import { Headline } from "../../app/Headline";
import { Notice } from "../../ui/Notice";

/** A vehicle whose circuits are known: its circuits, and its file to be taken elsewhere. */
export default function VehiclePage() {
  const { slug = "" } = useParams();
  const { data: vehicle, error } = useQuery({
    queryKey: ["vehicle model", slug],
    queryFn: async () =>
      unwrap(await api.GET("/api/v1/vehicle-models/{slug}", { params: { path: { slug } } })),
  });
  if (error && !vehicle) {
    return (
      <main className="mx-auto max-w-3xl p-6">
        <Notice tone="problem">
          {error.message} <Link to="/circuits">All circuits.</Link>
        </Notice>
      </main>
    );
  }
  if (!vehicle) return <main className="p-6">…</main>;
  const again = `/vehicles/new?make=${encodeURIComponent(vehicle.make)}&model=${encodeURIComponent(vehicle.model)}`;
  return (
    <main className="mx-auto max-w-4xl px-5 py-5">
      <Headline>
        <h1 className="text-lg">
          {vehicle.title} {vehicle.example && <span className="text-sm text-soft">example</span>}
        </h1>
      </Headline>
      <p>
        Jobs on a {vehicle.make} {vehicle.model} begin with these circuits: codes and symptoms lead to them,
        and what they share is seen as one.
      </p>
      <ul className="mt-3 border-t border-rule" aria-label="Circuits of this vehicle">
        {vehicle.circuits.map((circuit) => (
          <li key={circuit.slug} className="border-b border-rule">
            <Link to={`/circuits/${circuit.version_id}`} className="flex min-h-11 items-center">
              {circuit.title}
            </Link>
          </li>
        ))}
      </ul>
      <p className="mt-3 flex flex-wrap gap-x-6">
        {!vehicle.example && (
          <Link to={again} className="min-h-11 py-2 underline underline-offset-4">
            Add circuits, or gather them again
          </Link>
        )}
        <a
          className="min-h-11 py-2 underline underline-offset-4"
          download={`${vehicle.slug}.yaml`}
          href={`data:text/yaml;charset=utf-8,${encodeURIComponent(vehicle.text)}`}
        >
          Vehicle file (YAML)
        </a>
      </p>
      <p className="text-sm text-soft">Another workshop loads the circuit files first, then this one.</p>
    </main>
  );
}
