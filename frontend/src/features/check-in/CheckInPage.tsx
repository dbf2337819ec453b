import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { RadioGroup } from "radix-ui";
import { type ReactNode, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { ApiError, api, type CircuitSummary, type Schema, unwrap } from "../../api/client";
import { circuitsQuery, jobQuery, modelsQuery } from "../../api/queries";
import { type Unit, useUnits } from "../../lib/units";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { isCalled } from "../circuits/search";

type Vehicle = Schema["VehicleView"];

/** Take in: which vehicle, what is complained of. The rest is asked on the job's own page. */
export function NewJobPage() {
  const navigate = useNavigate();
  const client = useQueryClient();
  const circuits = useQuery(circuitsQuery);
  const models = useQuery(modelsQuery);
  const [chosen, setChosen] = useState("");
  const [make, setMake] = useState("");
  const [params] = useSearchParams();
  const { distance, temperature } = useUnits();
  const [plate, setPlate] = useState(params.get("plate") ?? "");
  const [sought, setSought] = useState("");
  const [known, setKnown] = useState<Vehicle | null>(null);
  const [clientKey] = useState(() => crypto.randomUUID());
  const form = useRef<HTMLFormElement>(null);
  const lookUp = useQuery({
    queryKey: ["vehicles", plate],
    enabled: plate.length > 2,
    queryFn: async () => unwrap(await api.GET("/api/v1/vehicles", { params: { query: { plate } } })),
  });
  const loadFile = useMutation({
    mutationFn: async (text: string) => unwrap(await api.POST("/api/v1/circuits", { body: { text } })),
    onSuccess: async (made) => {
      await client.invalidateQueries(circuitsQuery);
      setMake("");
      setChosen(made.version_id);
    },
  });
  const create = useMutation({
    mutationFn: async (data: FormData) => {
      const text = (name: string) => String(data.get(name) ?? "").trim();
      const number = (name: string) => (text(name) ? Number(text(name).replace(",", ".")) : null);
      const kept = (name: string, unit: Unit) => {
        const shown = number(name);
        return shown === null ? null : unit.keep(shown);
      };
      return unwrap(
        await api.POST("/api/v1/jobs", {
          body: {
            client_key: clientKey,
            vehicle_id: known?.id ?? null,
            vehicle: known
              ? null
              : {
                  make: text("make"),
                  model: text("model"),
                  year: number("year"),
                  plate: text("plate"),
                  mileage_km: kept("mileage_km", distance),
                  engine: text("engine"),
                  vin: text("vin").toUpperCase(),
                },
            complaint: text("complaint"),
            codes: text("codes"),
            temperature_c: kept("temperature_c", temperature) ?? 20,
            circuit_version_id: chosen || null,
          },
        }),
      );
    },
    onSuccess: async (job) => {
      client.invalidateQueries({ queryKey: ["jobs"] });
      const detail = await client.fetchQuery(jobQuery(job.id));
      const diagnosis = detail.diagnoses[0];
      navigate(diagnosis ? `/bench/${diagnosis.id}` : `/jobs/${job.id}`);
    },
  });
  const problem = create.error instanceof ApiError ? create.error.problem : null;
  const take = (vehicle: Vehicle) => {
    setKnown(vehicle);
    setMake(vehicle.make);
  };
  const seen = lookUp.data?.vehicles ?? [];
  const fitting = circuits.data?.circuits.filter(
    (circuit) =>
      circuit.version_id === chosen ||
      ((!make || circuit.make.toLowerCase() === make.trim().toLowerCase()) && isCalled(circuit, sought)),
  );
  return (
    <main className="mx-auto max-w-5xl px-5 py-5">
      <h1 className="text-3xl">Take in a vehicle</h1>
      <p className="mb-4 text-soft">
        The plate finds a vehicle that has been here. Make and complaint are enough to begin.
      </p>
      <form
        ref={form}
        className="grid gap-x-10 gap-y-5 md:grid-cols-2"
        onSubmit={(event) => {
          event.preventDefault();
          create.mutate(new FormData(event.currentTarget));
        }}
      >
        <fieldset className="space-y-3">
          <legend className="mb-1 text-lg font-[650]">Vehicle</legend>
          <TextField
            name="plate"
            label="Plate"
            problem={problem}
            path="vehicle.plate"
            defaultValue={plate}
            autoFocus
            onChange={(event) => {
              setKnown(null);
              setPlate(event.target.value.trim());
            }}
          />
          {known ? (
            <div className="flex items-center justify-between gap-3 border-l-4 border-ink bg-depth-1 px-3 py-2">
              <span>
                <strong className="font-[650]">
                  {known.make} {known.model} {known.year ?? ""}
                </strong>
                <span className="block text-sm text-soft">
                  {known.engine}{" "}
                  {known.mileage_km ? `· ${distance.show(known.mileage_km)} ${distance.label} last` : ""} ·{" "}
                  {known.jobs} job
                  {known.jobs === 1 ? "" : "s"} before
                </span>
              </span>
              <Button kind="quiet" onClick={() => setKnown(null)}>
                Another one
              </Button>
            </div>
          ) : (
            <>
              {seen.map((vehicle) => (
                <Button
                  key={vehicle.id}
                  className="block w-full py-2 text-left"
                  onClick={() => take(vehicle)}
                >
                  <strong className="font-[650]">
                    {vehicle.make} {vehicle.model} {vehicle.year ?? ""}
                  </strong>{" "}
                  has been here: {vehicle.jobs} job{vehicle.jobs === 1 ? "" : "s"}. Use it
                </Button>
              ))}
              <div className="grid grid-cols-2 gap-3">
                <TextField
                  name="make"
                  label="Make"
                  problem={problem}
                  path="vehicle.make"
                  required
                  onChange={(event) => setMake(event.target.value)}
                />
                <TextField name="model" label="Model" problem={problem} path="vehicle.model" />
                <TextField
                  name="year"
                  label="Year"
                  problem={problem}
                  path="vehicle.year"
                  inputMode="numeric"
                />
                <TextField name="engine" label="Engine" problem={problem} path="vehicle.engine" />
                <TextField
                  name="mileage_km"
                  label={`Mileage, ${distance.label}`}
                  problem={problem}
                  path="vehicle.mileage_km"
                  inputMode="numeric"
                />
                <TextField name="vin" label="VIN" problem={problem} path="vin" />
              </div>
              {models.data && models.data.models.length > 0 && (
                <p className="text-sm text-soft">
                  All circuits are known of: {models.data.models.map((item) => item.title).join(", ")}.
                </p>
              )}
            </>
          )}
        </fieldset>
        <fieldset className="space-y-3">
          <legend className="mb-1 text-lg font-[650]">Complaint</legend>
          <TextField
            name="complaint"
            label="In the customer's words"
            problem={problem}
            path="complaint"
            area
          />
          <TextField
            name="codes"
            label="Codes, if already read; one or many, words around them do no harm"
            problem={problem}
            path="text"
            area
            rows={2}
            placeholder="ECM: P0480 confirmed"
          />
          <TextField
            name="temperature_c"
            label={`Parts at, ${temperature.label}`}
            problem={problem}
            path="temperature_c"
            inputMode="decimal"
            defaultValue={String(temperature.show(20))}
          />
        </fieldset>
        <details className="md:col-span-2" open={chosen !== "" || undefined}>
          <summary className="min-h-11 cursor-pointer py-2 text-lg font-[650]">
            Straight to one circuit{" "}
            <span className="text-sm font-[400] text-soft">
              if it is clear already which, or its file is at hand
            </span>
          </summary>
          {circuits.error && (
            <Notice tone="problem">The circuits cannot be read: {circuits.error.message}</Notice>
          )}
          <label className="mb-2 block max-w-md text-sm text-soft">
            Find by any of its names, e.g. MAF or outside temperature
            <input
              value={sought}
              onChange={(event) => setSought(event.target.value)}
              className="mt-1 block min-h-11 w-full border border-ink/60 bg-raised px-3 text-base text-ink"
            />
          </label>
          {fitting?.length === 0 && <p className="text-sm">No circuit of that name and make is known.</p>}
          <RadioGroup.Root
            value={chosen}
            onValueChange={setChosen}
            aria-label="Circuit"
            className="grid max-h-96 gap-x-6 overflow-auto border-y border-rule md:grid-cols-2"
          >
            {fitting?.map((circuit) => (
              <CircuitChoice key={circuit.version_id} circuit={circuit} />
            ))}
          </RadioGroup.Root>
          <FileLoader onText={(text) => loadFile.mutate(text)} busy={loadFile.isPending} />
          {loadFile.data && !loadFile.isPending && (
            <p className="mt-2 text-sm" role="status">
              <strong>Loaded:</strong> {loadFile.data.title}, version {loadFile.data.version}. It is chosen
              above.
            </p>
          )}
          {loadFile.error && <FileProblems error={loadFile.error} />}
        </details>
        {create.error && (
          <div className="md:col-span-2">
            <Notice tone="problem">{create.error.message}</Notice>
          </div>
        )}
        <div className="flex items-center gap-4 md:col-span-2">
          <Button kind="next" type="submit" disabled={create.isPending}>
            {create.isPending ? "Taking in …" : chosen ? "Take in and open the bench" : "Take in"}
          </Button>
          {chosen && (
            <Button kind="quiet" onClick={() => setChosen("")}>
              No circuit yet
            </Button>
          )}
        </div>
      </form>
    </main>
  );
}

function CircuitChoice({ circuit }: { circuit: CircuitSummary }) {
  return (
    <RadioGroup.Item
      value={circuit.version_id}
      className="group flex w-full items-start gap-3 border-b border-rule px-2 py-3 text-left data-[state=checked]:bg-depth-1"
    >
      <span
        aria-hidden="true"
        className="mt-1 h-4 w-4 shrink-0 rounded-full border-2 border-ink group-data-[state=checked]:border-[5px]"
      />
      <span>
        <span className="block font-[600]">{circuit.title}</span>
        <span className="block text-sm text-soft">
          {circuit.make}, version {circuit.version} · {circuit.parts} parts, {circuit.points} points to probe,{" "}
          {circuit.faults} faults known
        </span>
        {circuit.complaint && <span className="block text-sm">{circuit.complaint}</span>}
      </span>
    </RadioGroup.Item>
  );
}

function FileLoader({ onText, busy }: { onText: (text: string) => void; busy: boolean }): ReactNode {
  const input = useRef<HTMLInputElement>(null);
  return (
    <div className="mt-4">
      <input
        ref={input}
        type="file"
        accept=".yaml,.yml,.txt"
        className="sr-only"
        tabIndex={-1}
        aria-label="Circuit file"
        onChange={async (event) => {
          const file = event.target.files?.[0];
          if (file) onText(await file.text());
          event.target.value = "";
        }}
      />
      <Button onClick={() => input.current?.click()} disabled={busy}>
        {busy ? "Checking …" : "Load a circuit file …"}
      </Button>
      <span className="ml-3 text-sm text-soft">YAML, see docs/circuit-format.md</span>
    </div>
  );
}

function FileProblems({ error }: { error: Error }) {
  const problem = error instanceof ApiError ? error.problem : null;
  return (
    <div className="mt-3 space-y-2">
      <Notice tone="problem">{problem?.detail ?? error.message}</Notice>
      {problem?.errors && (
        <ol className="max-h-56 overflow-auto text-sm" aria-label="Problems in the file">
          {problem.errors.map((item) => (
            <li
              key={`${item.line}-${item.field}-${item.message}`}
              className="flex gap-3 border-b border-rule py-1"
            >
              <span className="w-16 shrink-0 font-[600]">{item.line ? `line ${item.line}` : "file"}</span>
              <span>
                <strong>{item.field}</strong>: {item.message}
              </span>
            </li>
          ))}
        </ol>
      )}
    </div>
  );
}
