import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, unwrap } from "../../api/client";
import { circuitsQuery } from "../../api/queries";
import { Notice } from "../../ui/Notice";
import { isCalled } from "./search";

/** Every circuit that is known, found by any of its names. */
export default function CircuitsPage() {
  const circuits = useQuery(circuitsQuery);
  const vehicles = useQuery({
    queryKey: ["vehicle models"],
    queryFn: async () => unwrap(await api.GET("/api/v1/vehicle-models")),
  });
  const [sought, setSought] = useState("");
  const found = circuits.data?.circuits.filter((circuit) => isCalled(circuit, sought)) ?? [];
  return (
    <main className="mx-auto max-w-5xl px-5 py-5">
      <div className="flex flex-wrap items-baseline justify-between gap-3">
        <h1 className="text-3xl">Circuits</h1>
        <span className="flex flex-wrap gap-x-6">
          <Link to="/describe" className="min-h-11 py-2 underline underline-offset-4">
            Describe a circuit from its wiring sheet
          </Link>
          <Link to="/vehicles/new" className="min-h-11 py-2 underline underline-offset-4">
            Gather circuits into a vehicle
          </Link>
        </span>
      </div>
      {(vehicles.data?.models ?? []).length > 0 && (
        <p className="flex flex-wrap gap-x-6">
          <span className="py-2 text-soft">Vehicles:</span>
          {vehicles.data?.models.map((one) => (
            <Link
              key={one.slug}
              to={`/vehicles/${one.slug}`}
              className="min-h-11 py-2 underline underline-offset-4"
            >
              {one.title}
              {one.example && <span className="text-soft"> (example)</span>}
            </Link>
          ))}
        </p>
      )}
      <label className="my-3 block max-w-md text-sm text-soft">
        Find by any of its names, e.g. MAF or outside temperature
        <input
          // biome-ignore lint/a11y/noAutofocus: the one thing one comes here for
          autoFocus
          value={sought}
          onChange={(event) => setSought(event.target.value)}
          className="mt-1 block min-h-11 w-full border border-ink/60 bg-raised px-3 text-base text-ink"
        />
      </label>
      {circuits.error && <Notice tone="problem">{circuits.error.message}</Notice>}
      {circuits.isPending && <p className="text-soft">Reading the list …</p>}
      {circuits.data && found.length === 0 && (
        <p>
          No circuit is called that. Describe it from its wiring sheet, or load a circuit file when checking
          in a vehicle; docs/circuit-format.md says how to write one.
        </p>
      )}
      <ul className="grid gap-x-8 border-t border-rule md:grid-cols-2">
        {found.map((circuit) => (
          <li key={circuit.version_id} className="border-b border-rule">
            <Link to={`/circuits/${circuit.version_id}`} className="block min-h-11 py-2">
              <strong className="font-[650]">{circuit.title}</strong>{" "}
              <span className="text-soft">
                {circuit.make}
                {circuit.example && ", example"}
                {circuit.synonyms.length > 0 && `; ${circuit.synonyms.join(", ")}`}
              </span>
              <span className="block text-sm">{circuit.complaint}</span>
            </Link>
          </li>
        ))}
      </ul>
    </main>
  );
}
