import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { z } from "zod";
import { api, type Schema, unwrap } from "../../api/client";
import { when } from "../../lib/format";
import { required, useServerForm } from "../../lib/forms";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";

const KEY = ["programs"];
const SCHEMA = z.object({ name: required("The program's name"), role: z.enum(["read-only", "technician"]) });

/** Outside programs: each has a token, shown once. */
export function Programs() {
  const client = useQueryClient();
  const [token, setToken] = useState<string | null>(null);
  const list = useQuery({ queryKey: KEY, queryFn: async () => unwrap(await api.GET("/api/v1/programs")) });
  const take = (answer: Schema["ProgramList"]) => client.setQueryData(KEY, answer);
  const { form, field, submit, sending, trouble } = useServerForm({
    schema: SCHEMA,
    defaults: { name: "", role: "read-only" },
    send: async (body) => unwrap(await api.POST("/api/v1/programs", { body: { ...body, days: 365 } })),
    onDone: ({ token: made, ...answer }, clear) => {
      clear();
      setToken(made);
      take(answer);
    },
  });
  const end = useMutation({
    mutationFn: async (id: string) =>
      unwrap(await api.DELETE("/api/v1/programs/{program_id}", { params: { path: { program_id: id } } })),
    onSuccess: take,
  });
  const failed = trouble ?? end.error?.message;
  return (
    <section className="space-y-3">
      <h2 className="text-xl">Outside programs</h2>
      <ul className="border-t border-rule text-sm">
        {list.data?.programs.map((program) => (
          <li key={program.id} className="flex min-h-11 items-center gap-3 border-b border-rule">
            <span className={`flex-1 ${program.active ? "" : "line-through opacity-70"}`}>
              <strong className="font-[650]">{program.name}</strong>{" "}
              <span className="text-soft">
                {program.role === "read-only" ? "may read" : "may read and record"}
                {program.seen_at && `, last seen ${when(program.seen_at)}`}
                {program.expires_at && `, until ${when(program.expires_at)}`}
              </span>
            </span>
            {program.active && (
              <Button kind="quiet" onClick={() => end.mutate(program.id)}>
                End
              </Button>
            )}
          </li>
        ))}
      </ul>
      {token && (
        <Notice tone="note">
          The token, shown only now: <code className="block break-all select-all">{token}</code> The program
          sends it as <code>Authorization: Bearer …</code> with every request.
        </Notice>
      )}
      {failed && <Notice tone="problem">{failed}</Notice>}
      <details>
        <summary className="min-h-11 cursor-pointer py-2 font-[650]">Add a program</summary>
        <form className="grid grid-cols-2 gap-3" onSubmit={submit} noValidate>
          <TextField label="Name" {...field("name")} />
          <label className="text-sm text-soft">
            It may
            <select
              {...form.register("role")}
              className="mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink"
            >
              <option value="read-only">read</option>
              <option value="technician">read and record</option>
            </select>
          </label>
          <Button type="submit" className="justify-self-start" disabled={sending.isPending}>
            Make a token
          </Button>
        </form>
      </details>
    </section>
  );
}
