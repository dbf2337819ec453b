import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { ApiError, api, type Schema, unwrap } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";

const KEY = ["meters"];

/** The workshop's meters with the accuracy of their data sheets; a reading carries that of its meter. */
export function Meters({ lead }: { lead: boolean }) {
  const client = useQueryClient();
  const form = useRef<HTMLFormElement>(null);
  const list = useQuery({ queryKey: KEY, queryFn: async () => unwrap(await api.GET("/api/v1/meters")) });
  const take = (answer: Schema["MeterList"]) => client.setQueryData(KEY, answer);
  const add = useMutation({
    mutationFn: async (data: FormData) => {
      const number = (name: string) => Number(String(data.get(name)).replace(",", "."));
      return unwrap(
        await api.POST("/api/v1/meters", {
          body: {
            name: String(data.get("name")).trim(),
            volts_percent: number("volts_percent"),
            volts_floor: number("volts_floor"),
            ohms_percent: number("ohms_percent"),
            ohms_floor: number("ohms_floor"),
          },
        }),
      );
    },
    onSuccess: (answer) => {
      form.current?.reset();
      take(answer);
    },
  });
  const retire = useMutation({
    mutationFn: async (id: string) =>
      unwrap(await api.DELETE("/api/v1/meters/{meter_id}", { params: { path: { meter_id: id } } })),
    onSuccess: take,
  });
  const problem = add.error instanceof ApiError ? add.error.problem : null;
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
            {lead && (
              <Button kind="quiet" onClick={() => retire.mutate(meter.id)}>
                Retire
              </Button>
            )}
          </li>
        ))}
      </ul>
      {lead && (
        <details>
          <summary className="min-h-11 cursor-pointer py-2 font-[650]">Add a meter</summary>
          <form
            ref={form}
            className="grid grid-cols-2 gap-3"
            onSubmit={(event) => {
              event.preventDefault();
              add.mutate(new FormData(event.currentTarget));
            }}
          >
            <div className="col-span-2">
              <TextField name="name" label="Name" problem={problem} required />
            </div>
            <TextField
              name="volts_percent"
              label="Volts, % of reading"
              defaultValue="0.5"
              problem={problem}
              inputMode="decimal"
            />
            <TextField
              name="volts_floor"
              label="and at least, V"
              defaultValue="0.02"
              problem={problem}
              inputMode="decimal"
            />
            <TextField
              name="ohms_percent"
              label="Ohms, % of reading"
              defaultValue="1"
              problem={problem}
              inputMode="decimal"
            />
            <TextField
              name="ohms_floor"
              label="and at least, Ω"
              defaultValue="0.2"
              problem={problem}
              inputMode="decimal"
            />
            <Button type="submit" className="justify-self-start" disabled={add.isPending}>
              Add
            </Button>
          </form>
        </details>
      )}
      {problem && !problem.errors?.length && <Notice tone="problem">{problem.detail}</Notice>}
    </section>
  );
}
