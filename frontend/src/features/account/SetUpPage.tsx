import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ApiError, api, unwrap } from "../../api/client";
import { setupQuery } from "../../api/queries";
import { accept, meQuery } from "../../api/session";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { Lead } from "./Lead";

/** The first workshop and its first lead. */
export function SetUpPage() {
  const client = useQueryClient();
  const setUp = useMutation({
    mutationFn: async (form: FormData) => {
      const text = (name: string) => String(form.get(name) ?? "").trim();
      return unwrap(
        await api.POST("/api/v1/setup", {
          body: {
            code: text("code"),
            workshop: text("workshop"),
            name: text("name"),
            sign_in: text("sign_in"),
            password: String(form.get("password")),
          },
        }),
      );
    },
    onSuccess: (me) => {
      client.setQueryData(meQuery.queryKey, accept(me));
      client.invalidateQueries(setupQuery);
    },
  });
  const problem = setUp.error instanceof ApiError ? setUp.error.problem : null;
  return (
    <main className="mx-auto grid min-h-full max-w-4xl items-center gap-10 px-6 py-8 md:grid-cols-[1fr_24rem]">
      <Lead />
      <form
        className="space-y-3"
        onSubmit={(event) => {
          event.preventDefault();
          setUp.mutate(new FormData(event.currentTarget));
        }}
      >
        <h1 className="text-2xl">Set up your workshop</h1>
        <TextField
          name="code"
          label="Code printed when Sondar was started"
          problem={problem}
          required
          autoFocus
        />
        <TextField name="workshop" label="Workshop" problem={problem} required />
        <TextField name="name" label="Your name" problem={problem} required />
        <TextField
          name="sign_in"
          label="Name to sign in with"
          problem={problem}
          required
          autoComplete="username"
        />
        <TextField
          name="password"
          label="Password"
          type="password"
          problem={problem}
          required
          autoComplete="new-password"
          hint="At least 10 characters. You are the lead and can add the others."
        />
        {setUp.error && !problem?.errors?.length && (
          <Notice tone="problem">{problem?.detail ?? "The server does not answer. Try again."}</Notice>
        )}
        <Button kind="next" type="submit" className="w-full" disabled={setUp.isPending}>
          {setUp.isPending ? "Setting up …" : "Set up"}
        </Button>
      </form>
    </main>
  );
}
