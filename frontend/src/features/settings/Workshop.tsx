import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Controller } from "react-hook-form";
import { z } from "zod";
import { api, type Me, type Schema, unwrap } from "../../api/client";
import { listsQuery } from "../../api/queries";
import { meQuery } from "../../api/session";
import { decimal, optionalDecimal, required, useServerForm } from "../../lib/forms";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { Term } from "../../ui/Term";
import { TextField } from "../../ui/TextField";

type Settings = Schema["WorkshopView"];
type Options = { key: string; title: string }[];

const SCHEMA = z.object({
  name: required("The name"),
  rate_per_hour: decimal,
  currency: z.string().trim().toUpperCase().length(3, "Three letters, e.g. EUR"),
  decision_threshold: z.number(),
  distance_unit: z.enum(["km", "mi"]),
  temperature_unit: z.enum(["C", "F"]),
  tools: z.array(z.string()),
  alone: z.boolean(),
  show_examples: z.boolean(),
  photo_quota_mb: decimal,
  recording_quota_mb: decimal,
  erase_after_months: optionalDecimal,
  group_shares: z.record(z.string(), decimal),
});
const EXAMPLES: Options = [{ key: "on", title: "offer the example circuits" }];
const ALONE: Options = [{ key: "on", title: "one person alone works here" }];

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
    defaults: {
      ...shop,
      rate_per_hour: String(shop.rate_per_hour),
      photo_quota_mb: String(shop.photo_quota_mb),
      recording_quota_mb: String(shop.recording_quota_mb),
      erase_after_months: String(shop.erase_after_months ?? ""),
      group_shares: Object.fromEntries(
        Object.entries(shop.group_shares).map(([group, percent]) => [group, String(percent)]),
      ),
    },
    send: async (values) => {
      try {
        return unwrap(await api.PUT("/api/v1/workshop", { body: { ...values, version: shop.version } }));
      } finally {
        client.invalidateQueries(meQuery);
      }
    },
    onDone: () => undefined,
  });
  const storage = useQuery({
    queryKey: ["storage"],
    queryFn: async () => unwrap(await api.GET("/api/v1/workshop/storage")),
  });
  const alone = form.watch("alone");
  const tools = (lists.data?.instruments ?? [])
    .filter((one) => !one.recorded)
    .map(({ id, title }) => ({ key: id, title }))
    .concat(lists.data?.other_tools ?? []);
  return (
    <form className="space-y-3" onSubmit={submit} noValidate>
      <h2 className="text-xl">Workshop</h2>
      <TextField label="Name" {...field("name")} />
      {!alone && (
        <div className="grid grid-cols-2 gap-3">
          <TextField label="Rate per hour" inputMode="decimal" {...field("rate_per_hour")} />
          <TextField label="Currency" {...field("currency")} />
        </div>
      )}
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
      <Controller
        control={form.control}
        name="group_shares"
        render={({ field: { value, onChange } }) => (
          <GroupShares groups={lists.data?.groups ?? []} value={value} onChange={onChange} />
        )}
      />
      <div className="grid grid-cols-2 items-start gap-3">
        <TextField
          label="Erase personal data after, months"
          inputMode="numeric"
          hint="Of closed jobs: plate, VIN, photographs, free text. Readings and conclusions stay. Empty: never."
          {...field("erase_after_months")}
        />
        <TextField
          label="Room for photographs, MB"
          inputMode="numeric"
          hint={storage.data && `${storage.data.photo_mb.toFixed(1)} MB are used.`}
          {...field("photo_quota_mb")}
        />
        <TextField
          label="Room for recordings, MB"
          inputMode="numeric"
          hint={storage.data && `${storage.data.recording_mb.toFixed(1)} MB are used.`}
          {...field("recording_quota_mb")}
        />
      </div>
      <div className="flex flex-wrap gap-4">
        {(
          [
            ["show_examples", "Examples", EXAMPLES],
            ["alone", "People", ALONE],
          ] as const
        ).map(([name, label, options]) => (
          <Controller
            key={name}
            control={form.control}
            name={name}
            render={({ field: { value, onChange } }) => (
              <Picks
                label={label}
                options={options}
                chosen={value ? ["on"] : []}
                onChange={(chosen) => onChange(chosen.length > 0)}
              />
            )}
          />
        ))}
      </div>
      {trouble && <Notice tone="problem">{trouble}</Notice>}
      {sending.isSuccess && <p role="status">Saved.</p>}
      <Button type="submit" disabled={sending.isPending}>
        Save
      </Button>
    </form>
  );
}

/** How often what fails, before anything is known of a vehicle: Sondar's figures with their reasons, or the workshop's own. */
function GroupShares(props: {
  groups: Schema["GroupChoice"][];
  value: Record<string, string>;
  onChange: (value: Record<string, string>) => void;
}) {
  const own = Object.keys(props.value).length > 0;
  const usual = Object.fromEntries(props.groups.map((group) => [group.key, String(group.percent)]));
  return (
    <fieldset>
      <legend className="mb-1 text-sm text-soft">How often what fails, percent of what comes in</legend>
      <ul className="border-t border-rule text-sm">
        {props.groups.map((group) => (
          <li
            key={group.key}
            className="grid grid-cols-[5rem_1fr] items-center gap-3 border-b border-rule py-1"
          >
            {own ? (
              <input
                aria-label={`${group.key}, percent`}
                inputMode="decimal"
                className="figure block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-lg"
                value={props.value[group.key] ?? ""}
                onChange={(event) => props.onChange({ ...props.value, [group.key]: event.target.value })}
              />
            ) : (
              <span className="figure text-lg">{group.percent} %</span>
            )}
            <span>
              <strong className="font-[650]">{group.key}</strong>{" "}
              <span className="text-soft">{group.reason}</span>
            </span>
          </li>
        ))}
      </ul>
      <Button kind="quiet" className="text-sm" onClick={() => props.onChange(own ? {} : usual)}>
        {own ? "Use Sondar's figures" : "Set figures of our own"}
      </Button>
    </fieldset>
  );
}
