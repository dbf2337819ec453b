import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { z } from "zod";
import { api, type Schema, unwrap } from "../../api/client";
import { decimal, required, useServerForm } from "../../lib/forms";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";

const KEY = ["meters"];
const SCHEMA = z.object({
  name: required("The name"),
  volts_percent: decimal,
  volts_floor: decimal,
  ohms_percent: decimal,
  ohms_floor: decimal,
});

/** The workshop's meters with the accuracy of their data sheets; a reading carries that of its meter. */
export function Meters({ canChange }: { canChange: boolean }) {
  const client = useQueryClient();
  const list = useQuery({ queryKey: KEY, queryFn: async () => unwrap(await api.GET("/api/v1/meters")) });
  const take = (answer: Schema["MeterList"]) => client.setQueryData(KEY, answer);
  const { field, submit, sending, trouble } = useServerForm({
    schema: SCHEMA,
    defaults: { name: "", volts_percent: "0.5", volts_floor: "0.02", ohms_percent: "1", ohms_floor: "0.2" },
    send: async (body) => unwrap(await api.POST("/api/v1/meters", { body })),
    onDone: (answer, reset) => {
      reset();
      take(answer);
    },
  });
  const retire = useMutation({
    mutationFn: async (id: string) =>
      unwrap(await api.DELETE("/api/v1/meters/{meter_id}", { params: { path: { meter_id: id } } })),
    onSuccess: take,
  });
  return (
    <section className="space-y-3">
      <h2 className="text-xl">Meters</h2>
      <ul className="border-t border-rule text-sm">
        {list.data?.meters.map((meter) => (
          <li key={meter.id} className="flex min-h-11 items-center gap-3 border-b border-rule">
            <span className="flex-1">
              <strong className="font-[650]">{meter.name}</strong>{" "}
              <span className="text-soft">
                ±({meter.volts_percent} % + {meter.volts_floor} V), ±({meter.ohms_percent} % +{" "}
                {meter.ohms_floor} Ω)
              </span>
            </span>
            {canChange && (
              <Button kind="quiet" onClick={() => retire.mutate(meter.id)}>
                Retire
              </Button>
            )}
          </li>
        ))}
      </ul>
      {canChange && (
        <details>
          <summary className="min-h-11 cursor-pointer py-2 font-[650]">Add a meter</summary>
          <form className="grid grid-cols-2 gap-3" onSubmit={submit} noValidate>
            <div className="col-span-2">
              <TextField label="Name" {...field("name")} />
            </div>
            <TextField label="Volts, % of reading" inputMode="decimal" {...field("volts_percent")} />
            <TextField label="and at least, V" inputMode="decimal" {...field("volts_floor")} />
            <TextField label="Ohms, % of reading" inputMode="decimal" {...field("ohms_percent")} />
            <TextField label="and at least, Ω" inputMode="decimal" {...field("ohms_floor")} />
            <Button type="submit" className="justify-self-start" disabled={sending.isPending}>
              Add
            </Button>
          </form>
        </details>
      )}
      {(trouble ?? retire.error?.message) && (
        <Notice tone="problem">{trouble ?? retire.error?.message}</Notice>
      )}
    </section>
  );
}
