import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ApiError, api, unwrap } from "../../api/client";
import { accept, meQuery } from "../../api/session";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";
import { Lead } from "./Lead";

/** Who is there? */
export function SignInPage() {
  const client = useQueryClient();
  const signIn = useMutation({
    mutationFn: async (form: FormData) =>
      unwrap(
        await api.POST("/api/v1/session", {
          body: { sign_in: String(form.get("sign_in")), password: String(form.get("password")) },
        }),
      ),
    onSuccess: (me) => client.setQueryData(meQuery.queryKey, accept(me)),
  });
  return (
    <main className="mx-auto grid min-h-full max-w-4xl items-center gap-10 px-6 py-10 md:grid-cols-[1fr_22rem]">
      <Lead />
      <form
        className="space-y-4"
        onSubmit={(event) => {
          event.preventDefault();
          signIn.mutate(new FormData(event.currentTarget));
        }}
      >
        <h1 className="text-2xl">Sign in</h1>
        <TextField name="sign_in" label="Name" required autoFocus autoComplete="username" />
        <TextField
          name="password"
          label="Password"
          type="password"
          required
          autoComplete="current-password"
        />
        {signIn.error && (
          <Notice tone="problem">
            {signIn.error instanceof ApiError
              ? signIn.error.problem.detail
              : "The server does not answer. Try again."}
          </Notice>
        )}
        <Button kind="next" type="submit" className="w-full" disabled={signIn.isPending}>
          {signIn.isPending ? "Signing in …" : "Sign in"}
        </Button>
        <p className="text-sm text-soft">Forgotten? Your workshop's lead sets a new one under settings.</p>
      </form>
    </main>
  );
}
