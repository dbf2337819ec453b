import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type Me, type Schema, unwrap } from "../../api/client";
import { meQuery } from "../../api/session";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { TextField } from "../../ui/TextField";

const TOOLS = [
  { key: "voltmeter", title: "voltmeter" },
  { key: "ohmmeter", title: "ohmmeter" },
  { key: "lamp-5w", title: "lamp 5 W" },
  { key: "lamp-21w", title: "lamp 21 W" },
  { key: "senses", title: "eyes, ears, hands" },
  { key: "answers", title: "scan tool asks modules" },
  { key: "scan-value", title: "scan tool values" },
  { key: "led-probe", title: "LED probe" },
  { key: "clamp", title: "current clamp" },
  { key: "ac-voltmeter", title: "AC volts" },
  { key: "frequency", title: "frequency" },
  { key: "duty", title: "duty" },
  { key: "scope-top", title: "scope, top" },
  { key: "scope-bottom", title: "scope, bottom" },
  { key: "feed-test", title: "powered probe, feed test" },
  { key: "weak-pull", title: "powered probe, weak pull" },
  { key: "probe-ground", title: "powered probe, ground" },
  { key: "probe-supply", title: "powered probe, supply" },
  { key: "look", title: "a close look" },
  { key: "wiggle", title: "wiggling" },
  { key: "swap", title: "known-good parts" },
  { key: "clean", title: "cleaning" },
  { key: "gauge", title: "independent gauges" },
];

type Settings = Schema["WorkshopView"];

/** Name, rate, how sure a call must be, tools at hand, units. */
export function Workshop({ me }: { me: Me }) {
  const client = useQueryClient();
  const shop = me.workshop as Settings;
  const [tools, setTools] = useState(shop.tools);
  const [decision_threshold, setBoldness] = useState(shop.decision_threshold);
  const [units, setUnits] = useState({ distance: shop.distance_unit, temperature: shop.temperature_unit });
  const save = useMutation({
    mutationFn: async (data: FormData) =>
      unwrap(
        await api.PUT("/api/v1/workshop", {
          body: {
            name: String(data.get("name")).trim(),
            rate_per_hour: Number(String(data.get("rate_per_hour")).replace(",", ".")),
            currency: String(data.get("currency")).trim().toUpperCase(),
            decision_threshold,
            distance_unit: units.distance,
            temperature_unit: units.temperature,
            tools,
            version: shop.version,
          },
        }),
      ),
    onSuccess: () => client.invalidateQueries(meQuery),
    onError: () => client.invalidateQueries(meQuery),
  });
  const problem = save.error instanceof ApiError ? save.error.problem : null;
  return (
    <form
      className="space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        save.mutate(new FormData(event.currentTarget));
      }}
    >
      <h2 className="text-xl">Workshop</h2>
      <TextField name="name" label="Name" defaultValue={shop.name} problem={problem} required />
      <div className="grid grid-cols-2 gap-3">
        <TextField
          name="rate_per_hour"
          label="Rate per hour"
          inputMode="decimal"
          defaultValue={String(shop.rate_per_hour)}
          problem={problem}
        />
        <TextField name="currency" label="Currency" defaultValue={shop.currency} problem={problem} />
      </div>
      <label className="block text-sm text-soft">
        Call a conclusion when it is{" "}
        <strong className="sounding text-ink">{(decision_threshold * 100).toFixed(1)} %</strong> certain; lower is
        bolder
        <input
          type="range"
          min="0.6"
          max="0.995"
          step="0.005"
          value={decision_threshold}
          onChange={(event) => setBoldness(Number(event.target.value))}
          className="mt-1 block min-h-11 w-full accent-[var(--depth-5)]"
        />
      </label>
      <div>
        <p className="mb-1 text-sm text-soft">Tools at hand; plans use no others</p>
        <Picks label="Tools" options={TOOLS} chosen={tools} onChange={setTools} />
      </div>
      <div className="flex flex-wrap gap-4">
        <Picks
          label="Distance"
          single
          options={[
            { key: "km", title: "km" },
            { key: "mi", title: "miles" },
          ]}
          chosen={[units.distance]}
          onChange={([key]) => key && setUnits({ ...units, distance: key as "km" | "mi" })}
        />
        <Picks
          label="Temperature"
          single
          options={[
            { key: "C", title: "°C" },
            { key: "F", title: "°F" },
          ]}
          chosen={[units.temperature]}
          onChange={([key]) => key && setUnits({ ...units, temperature: key as "C" | "F" })}
        />
      </div>
      {problem && <Notice tone="problem">{problem.detail}</Notice>}
      {save.isSuccess && <p role="status">Saved.</p>}
      <Button type="submit" disabled={save.isPending}>
        Save
      </Button>
    </form>
  );
}
