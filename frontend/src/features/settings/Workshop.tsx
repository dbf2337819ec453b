import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Controller } from "react-hook-form";
import { z } from "zod";
import { api, type Me, type Schema, unwrap } from "../../api/client";
import { listsQuery } from "../../api/queries";
import { meQuery } from "../../api/session";
import { decimal, required, useServerForm } from "../../lib/forms";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { Term } from "../../ui/Term";
import { TextField } from "../../ui/TextField";

type Settings = Schema["WorkshopView"];

const SCHEMA = z.object({
  name: required("The name"),
  rate_per_hour: decimal,
  currency: z.string().trim().toUpperCase().length(3, "Three letters, e.g. EUR"),
  decision_threshold: z.number(),
  distance_unit: z.enum(["km", "mi"]),
  temperature_unit: z.enum(["C", "F"]),
  tools: z.array(z.string()),
});

const DISTANCES = [
  { key: "km", title: "km" },
  { key: "mi", title: "miles" },
];
const TEMPERATURES = [
  { key: "C", title: "°C" },
  { key: "F", title: "°F" },
];

/** Name, rate, how certain a conclusion must be, tools at hand, units. */
export function Workshop({ me }: { me: Me }) {
  const client = useQueryClient();
  const lists = useQuery(listsQuery);
  const shop = me.workshop as Settings;
  const { form, field, submit, sending, trouble } = useServerForm({
    schema: SCHEMA,
    defaults: { ...shop, rate_per_hour: String(shop.rate_per_hour) },
    send: async (values) => {
      try {
        return unwrap(await api.PUT("/api/v1/workshop", { body: { ...values, version: shop.version } }));
      } finally {
        client.invalidateQueries(meQuery);
      }
    },
    onDone: () => undefined,
  });
  const tools = (lists.data?.instruments ?? []).map(({ id, title }) => ({ key: id, title }));
  return (
    <form className="space-y-3" onSubmit={submit} noValidate>
      <h2 className="text-xl">Workshop</h2>
      <TextField label="Name" {...field("name")} />
      <div className="grid grid-cols-2 gap-3">
        <TextField label="Rate per hour" inputMode="decimal" {...field("rate_per_hour")} />
        <TextField label="Currency" {...field("currency")} />
      </div>
      <Controller
        control={form.control}
        name="decision_threshold"
        render={({ field: { value, onChange } }) => (
          <div className="text-sm text-soft">
            <Term name="decision threshold">Decision threshold</Term>: conclude at{" "}
            <strong className="figure text-ink">{(value * 100).toFixed(1)} %</strong>
            <input
              type="range"
              aria-label="Decision threshold"
              min="0.6"
              max="0.995"
              step="0.005"
              value={value}
              onChange={(event) => onChange(Number(event.target.value))}
              className="mt-1 block min-h-11 w-full accent-[var(--depth-5)]"
            />
          </div>
        )}
      />
      <div>
        <p className="mb-1 text-sm text-soft">Tools at hand; no others are proposed</p>
        <Controller
          control={form.control}
          name="tools"
          render={({ field: { value, onChange } }) => (
            <Picks label="Tools" options={tools} chosen={value} onChange={onChange} />
          )}
        />
      </div>
      <div className="flex flex-wrap gap-4">
        <Controller
          control={form.control}
          name="distance_unit"
          render={({ field: { value, onChange } }) => (
            <Picks
              label="Distance"
              single
              options={DISTANCES}
              chosen={[value]}
              onChange={([key]) => key && onChange(key)}
            />
          )}
        />
        <Controller
          control={form.control}
          name="temperature_unit"
          render={({ field: { value, onChange } }) => (
            <Picks
              label="Temperature"
              single
              options={TEMPERATURES}
              chosen={[value]}
              onChange={([key]) => key && onChange(key)}
            />
          )}
        />
      </div>
      {trouble && <Notice tone="problem">{trouble}</Notice>}
      {sending.isSuccess && <p role="status">Saved.</p>}
      <Button type="submit" disabled={sending.isPending}>
        Save
      </Button>
    </form>
  );
}
