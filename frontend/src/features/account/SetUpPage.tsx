import { useQueryClient } from "@tanstack/react-query";
import { z } from "zod";
import { api, unwrap } from "../../api/client";
import { setupQuery } from "../../api/queries";
import { accept, meQuery } from "../../api/session";
import { required, useServerForm } from "../../lib/forms";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { Welcome } from "./Welcome";

const SCHEMA = z.object({
  code: required("The code"),
  workshop: required("The workshop's name"),
  name: required("Your name"),
  sign_in: required("The name to sign in with"),
  password: z.string().min(10, "At least 10 characters"),
  alone: z.boolean(),
});

/** The first workshop and its first workshop lead. */
export function SetUpPage() {
  const client = useQueryClient();
  const { form, field, submit, sending, trouble } = useServerForm({
    schema: SCHEMA,
    defaults: { code: "", workshop: "", name: "", sign_in: "", password: "", alone: false },
    send: async (body) => unwrap(await api.POST("/api/v1/setup", { body })),
    onDone: (me) => {
      client.setQueryData(meQuery.queryKey, accept(me));
      client.invalidateQueries(setupQuery);
    },
  });
  return (
    <main className="mx-auto grid min-h-full max-w-4xl items-center gap-10 px-6 py-8 md:grid-cols-[1fr_24rem]">
      <Welcome />
      <form className="space-y-3" onSubmit={submit} noValidate>
        <h1 className="text-2xl">Set up your workshop</h1>
        <TextField label="Code printed when Sondar was started" autoFocus {...field("code")} />
        <TextField label="Workshop" {...field("workshop")} />
        <TextField label="Your name" {...field("name")} />
        <TextField label="Name to sign in with" autoComplete="username" {...field("sign_in")} />
        <TextField
          label="Password"
          type="password"
          autoComplete="new-password"
          hint="At least 10 characters. You are the workshop lead and can add the others."
          {...field("password")}
        />
        <label className="flex min-h-11 items-center gap-3">
          <input type="checkbox" className="h-5 w-5 accent-[var(--depth-5)]" {...form.register("alone")} />
          <span>
            I work alone <span className="text-soft">(no roles, no rate; can be changed later)</span>
          </span>
        </label>
        {trouble && <Notice tone="problem">{trouble}</Notice>}
        <Button kind="next" type="submit" className="w-full" disabled={sending.isPending}>
          {sending.isPending ? "Setting up …" : "Set up"}
        </Button>
      </form>
    </main>
  );
}
