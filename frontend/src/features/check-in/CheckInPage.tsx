import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { z } from "zod";
import { api, type Schema, unwrap } from "../../api/client";
import { jobQuery, modelsQuery } from "../../api/queries";
import { optionalDecimal, useServerForm } from "../../lib/forms";
import { useUnits } from "../../lib/units";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { CircuitPicker } from "./CircuitPicker";
import { FromBundle } from "./FromBundle";
import { KnownVehicle, SeenBefore } from "./KnownVehicle";

export type Vehicle = Schema["VehicleView"];

const SCHEMA = z.object({
  plate: z.string().trim(),
  make: z.string().trim(),
  model: z.string().trim(),
  year: optionalDecimal,
  engine: z.string().trim(),
  mileage: optionalDecimal,
  vin: z.string().trim().toUpperCase(),
  complaint: z.string().trim(),
  codes: z.string().trim(),
  temperature: optionalDecimal,
});

/** Check-in: which vehicle, what is complained of. The rest is asked on the job's own page. */
export function CheckInPage() {
  const navigate = useNavigate();
  const client = useQueryClient();
  const models = useQuery(modelsQuery);
  const [params] = useSearchParams();
  const { distance, temperature } = useUnits();
  const [chosen, setChosen] = useState("");
  const [known, setKnown] = useState<Vehicle | null>(null);
  const [clientKey] = useState(() => crypto.randomUUID());
  const { form, field, submit, sending, trouble } = useServerForm({
    schema: SCHEMA,
    defaults: {
      plate: params.get("plate") ?? "",
      make: "",
      model: "",
      year: "",
      engine: "",
      mileage: "",
      vin: "",
      complaint: "",
      codes: "",
      temperature: "",
    },
    paths: {
      plate: "vehicle.plate",
      make: "vehicle.make",
      model: "vehicle.model",
      year: "vehicle.year",
      engine: "vehicle.engine",
      mileage: "vehicle.mileage_km",
      codes: "text",
      temperature: "temperature_c",
    },
    send: async (values) => {
      const { make, model, year, plate, engine, vin } = values;
      const mileage_km = values.mileage === null ? null : distance.keep(values.mileage);
      return unwrap(
        await api.POST("/api/v1/jobs", {
          body: {
            client_key: clientKey,
            vehicle_id: known?.id ?? null,
            vehicle: known ? null : { make, model, year, plate, mileage_km, engine, vin, starting: "" },
            complaint: values.complaint,
            codes: values.codes,
            temperature_c: values.temperature === null ? null : temperature.keep(values.temperature),
            circuit_version_id: chosen || null,
          },
        }),
      );
    },
    onDone: async (job) => {
      client.invalidateQueries({ queryKey: ["jobs"] });
      const detail = await client.fetchQuery(jobQuery(job.id));
      const diagnosis = detail.diagnoses[0];
      navigate(diagnosis ? `/measure/${diagnosis.id}` : `/jobs/${job.id}`);
    },
  });
  const [plate, make] = form.watch(["plate", "make"]);
  const take = (vehicle: Vehicle) => {
    setKnown(vehicle);
    form.setValue("make", vehicle.make);
  };
  return (
    <main className="mx-auto max-w-5xl px-5 py-5">
      <h1 className="text-3xl">Check in a vehicle</h1>
      <p className="mb-4 text-soft">
        The plate finds a vehicle that has been here. Make and complaint are enough to begin.
      </p>
      <form className="grid gap-x-10 gap-y-5 md:grid-cols-2" onSubmit={submit} noValidate>
        <fieldset className="space-y-3">
          <legend className="mb-1 text-lg font-[650]">Vehicle</legend>
          <TextField
            label="Plate"
            autoFocus
            {...field("plate")}
            onChange={(event) => {
              setKnown(null);
              form.register("plate").onChange(event);
            }}
          />
          {known ? (
            <KnownVehicle vehicle={known} onOther={() => setKnown(null)} />
          ) : (
            <>
              <SeenBefore plate={plate.trim()} onTake={take} />
              <div className="grid grid-cols-2 gap-3">
                <TextField label="Make" {...field("make")} />
                <TextField label="Model" {...field("model")} />
                <TextField label="Year" inputMode="numeric" {...field("year")} />
                <TextField label="Engine" {...field("engine")} />
                <TextField label={`Mileage, ${distance.label}`} inputMode="numeric" {...field("mileage")} />
                <TextField label="VIN" {...field("vin")} />
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
          <TextField label="In the customer's words" area {...field("complaint")} />
          <TextField
            label="Codes, if already read; one or many, words around them do no harm"
            area
            rows={2}
            placeholder="ECM: P0480 confirmed"
            {...field("codes")}
          />
          <TextField
            label={`Part temperature, ${temperature.label}`}
            inputMode="decimal"
            {...field("temperature")}
          />
        </fieldset>
        <CircuitPicker make={known?.make ?? make} chosen={chosen} onChoose={setChosen} />
        {trouble && (
          <div className="md:col-span-2">
            <Notice tone="problem">{trouble}</Notice>
          </div>
        )}
        <div className="flex items-center gap-4 md:col-span-2">
          <Button kind="next" type="submit" disabled={sending.isPending}>
            {sending.isPending ? "Checking in …" : chosen ? "Check in and measure" : "Check in"}
          </Button>
          {chosen && (
            <Button kind="quiet" onClick={() => setChosen("")}>
              No circuit yet
            </Button>
          )}
        </div>
      </form>
      <FromBundle />
    </main>
  );
}
