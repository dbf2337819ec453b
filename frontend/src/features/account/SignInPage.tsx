import { useQueryClient } from "@tanstack/react-query";
import { z } from "zod";
import { api, unwrap } from "../../api/client";
import { forgetSeen } from "../../api/seen";
import { accept, meQuery } from "../../api/session";
import { required, useServerForm } from "../../lib/forms";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { Welcome } from "./Welcome";

const SCHEMA = z.object({
  sign_in: required("The name"),
  password: z.string().min(1, "The password is missing"),
});

/** Who is there? */
export function SignInPage() {
  const client = useQueryClient();
  const { field, submit, sending, trouble } = useServerForm({
    schema: SCHEMA,
    defaults: { sign_in: "", password: "" },
    send: async (body) => {
      await forgetSeen(); // of whoever was here before
      return unwrap(await api.POST("/api/v1/session", { body }));
    },
    onDone: (me) => client.setQueryData(meQuery.queryKey, accept(me)),
  });
  return (
    <main className="mx-auto grid min-h-full max-w-4xl items-center gap-10 px-6 py-10 md:grid-cols-[1fr_22rem]">
      <Welcome />
      <form className="space-y-4" onSubmit={submit} noValidate>
        <h1 className="text-2xl">Sign in</h1>
        <TextField label="Name" autoFocus autoComplete="username" {...field("sign_in")} />
        <TextField label="Password" type="password" autoComplete="current-password" {...field("password")} />
        {trouble && <Notice tone="problem">{trouble}</Notice>}
        <Button kind="next" type="submit" className="w-full" disabled={sending.isPending}>
          {sending.isPending ? "Signing in …" : "Sign in"}
        </Button>
        <p className="text-sm text-soft">Forgotten? A workshop lead sets a new one under settings.</p>
      </form>
    </main>
  );
}
