import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { RadioGroup } from "radix-ui";
import { type ReactNode, useId, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { ApiError, api, type CircuitSummary, type Problem, unwrap } from "../../api/client";
import { circuitsQuery } from "../../api/queries";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

/** Take in: vehicle, complaint, circuit from the library or from a file. */
export function NewJobPage() {
  const navigate = useNavigate();
  const client = useQueryClient();
  const circuits = useQuery(circuitsQuery);
  const [chosen, setChosen] = useState("");
  const [clientKey] = useState(() => crypto.randomUUID());
  const loadFile = useMutation({
    mutationFn: async (text: string) => unwrap(await api.POST("/api/v1/circuits", { body: { text } })),
    onSuccess: async (made) => {
      await client.invalidateQueries(circuitsQuery);
      setChosen(made.version_id);
    },
  });
  const create = useMutation({
    mutationFn: async (form: FormData) => {
      const text = (name: string) => String(form.get(name) ?? "").trim();
      const number = (name: string) => (text(name) ? Number(text(name).replace(",", ".")) : null);
      return unwrap(
        await api.POST("/api/v1/jobs", {
          body: {
            client_key: clientKey,
            vehicle: {
              make: text("make"),
              model: text("model"),
              year: number("year"),
              plate: text("plate"),
              mileage_km: number("mileage_km"),
            },
            complaint: text("complaint"),
            codes: text("codes"),
            temperature_c: number("temperature_c") ?? 20,
            circuit_version_id: chosen,
          },
        }),
      );
    },
    onSuccess: (job) => navigate(`/jobs/${job.id}`),
  });
  const problem = create.error instanceof ApiError ? create.error.problem : null;
  return (
    <main className="mx-auto max-w-5xl px-5 py-6">
      <h1 className="text-3xl">Take in a vehicle</h1>
      <p className="mb-5 text-soft">What do we know? Make, complaint and circuit are enough to begin.</p>
      <form
        className="grid gap-x-10 gap-y-6 md:grid-cols-2"
        onSubmit={(event) => {
          event.preventDefault();
          create.mutate(new FormData(event.currentTarget));
        }}
      >
        <fieldset className="space-y-4">
          <legend className="mb-2 text-lg font-[650]">Vehicle and complaint</legend>
          <div className="grid grid-cols-2 gap-4">
            <Field name="make" label="Make" problem={problem} path="vehicle.make" required autoFocus />
            <Field name="model" label="Model" problem={problem} path="vehicle.model" />
            <Field name="plate" label="Plate" problem={problem} path="vehicle.plate" />
            <Field name="year" label="Year" problem={problem} path="vehicle.year" inputMode="numeric" />
            <Field
              name="mileage_km"
              label="Mileage, km"
              problem={problem}
              path="vehicle.mileage_km"
              inputMode="numeric"
            />
            <Field
              name="temperature_c"
              label="Parts at, °C"
              problem={problem}
              path="temperature_c"
              inputMode="decimal"
              defaultValue="20"
            />
          </div>
          <Field
            name="complaint"
            label="Complaint, in the customer's words"
            problem={problem}
            path="complaint"
            required
            area
          />
          <Field name="codes" label="Codes read" problem={problem} path="codes" placeholder="P0480" />
        </fieldset>
        <fieldset>
          <legend className="mb-2 text-lg font-[650]">Circuit to chase</legend>
          {circuits.error && (
            <Notice tone="problem">The circuits cannot be read: {circuits.error.message}</Notice>
          )}
          <RadioGroup.Root
            value={chosen}
            onValueChange={setChosen}
            aria-label="Circuit"
            className="border-t border-rule"
          >
            {circuits.data?.circuits.map((circuit) => (
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
        </fieldset>
        <div className="flex items-center gap-4 md:col-span-2">
          <Button kind="next" type="submit" disabled={create.isPending}>
            {create.isPending ? "Opening …" : "Open the bench"}
          </Button>
          {!chosen && <span className="text-sm text-soft">Choose a circuit first.</span>}
        </div>
        {create.error && (
          <div className="md:col-span-2">
            <Notice tone="problem">
              {problem?.errors?.some((item) => item.field === "circuit_version_id")
                ? "Choose a circuit of the list, or load a circuit file."
                : create.error.message}
            </Notice>
          </div>
        )}
      </form>
    </main>
  );
}

function Field(props: {
  name: string;
  label: string;
  path: string;
  problem: Problem | null;
  area?: boolean;
  required?: boolean;
  autoFocus?: boolean;
  placeholder?: string;
  defaultValue?: string;
  inputMode?: "numeric" | "decimal";
}) {
  const id = useId();
  const { name, label, path, problem, area, ...rest } = props;
  const found = problem?.errors?.find((item) => item.field === path);
  const look = "mt-1 block w-full rounded-sm border border-ink/60 bg-raised px-3 text-base text-ink";
  const shared = {
    id,
    name,
    "aria-invalid": found !== undefined,
    "aria-describedby": found ? `${id}-why` : undefined,
    ...rest,
  };
  return (
    <div>
      <label htmlFor={id} className="text-sm text-soft">
        {label}
      </label>
      {area ? (
        <textarea rows={3} className={`${look} py-2`} {...shared} />
      ) : (
        <input className={`${look} min-h-11`} {...shared} />
      )}
      {found && (
        <p id={`${id}-why`} className="mt-1 text-sm font-[600]">
          {found.message}
        </p>
      )}
    </div>
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
