import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { z } from "zod";
import { api, type Me, unwrap } from "../../api/client";
import { listsQuery } from "../../api/queries";
import { accept, meQuery } from "../../api/session";
import { when } from "../../lib/format";
import { useServerForm } from "../../lib/forms";
import { applyTheme, systemTheme } from "../../lib/theme";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { TextField } from "../../ui/TextField";

const PASSWORDS = z.object({
  old: z.string().min(1, "The current password is missing"),
  new: z.string().min(10, "At least 10 characters"),
});

const THEMES = [
  { key: "system", title: "as the device" },
  { key: "light", title: "light" },
  { key: "dark", title: "dark" },
];

/** Theme, password, and where one is signed in. */
export function OwnAccount({ me }: { me: Me }) {
  const client = useQueryClient();
  const theme = useMutation({
    mutationFn: async (value: "system" | "light" | "dark") => {
      applyTheme(value === "system" ? systemTheme() : value);
      return unwrap(await api.PUT("/api/v1/me/theme", { body: { theme: value } }));
    },
    onSuccess: (answer) => client.setQueryData(meQuery.queryKey, answer),
  });
  const lists = useQuery(listsQuery);
  const { field, submit, sending, trouble } = useServerForm({
    schema: PASSWORDS,
    defaults: { old: "", new: "" },
    send: async (body) => unwrap(await api.PUT("/api/v1/me/password", { body })),
    onDone: (answer, reset) => {
      reset();
      client.setQueryData(meQuery.queryKey, accept(answer));
    },
  });
  const sessions = useQuery({
    queryKey: ["sessions"],
    queryFn: async () => unwrap(await api.GET("/api/v1/me/sessions")),
  });
  const end = useMutation({
    mutationFn: async (id: string) =>
      unwrap(await api.DELETE("/api/v1/me/sessions/{session_id}", { params: { path: { session_id: id } } })),
    onSuccess: (answer) => client.setQueryData(["sessions"], answer),
  });
  return (
    <section className="space-y-3">
      <h2 className="text-xl">{me.name}</h2>
      <p className="text-soft">
        Signs in as {me.sign_in}, {lists.data?.roles.find((role) => role.key === me.role)?.title ?? me.role}
      </p>
      <Picks
        label="Theme"
        single
        options={THEMES}
        chosen={[me.theme]}
        onChange={([key]) => theme.mutate((key ?? "system") as "system" | "light" | "dark")}
      />
      <form className="grid grid-cols-2 items-start gap-3" onSubmit={submit} noValidate>
        <TextField
          label="Current password"
          type="password"
          autoComplete="current-password"
          {...field("old")}
        />
        <TextField label="New password" type="password" autoComplete="new-password" {...field("new")} />
        <Button type="submit" disabled={sending.isPending} className="justify-self-start">
          Change password
        </Button>
      </form>
      {sending.isSuccess && <p role="status">Changed. You are signed out everywhere else.</p>}
      {trouble && <Notice tone="problem">{trouble}</Notice>}
      <h3 className="pt-2 text-base">Signed in at</h3>
      <ul className="border-t border-rule text-sm">
        {sessions.data?.sessions.map((session) => (
          <li key={session.id} className="flex min-h-11 items-center gap-3 border-b border-rule">
            <span className="min-w-0 flex-1 truncate" title={session.agent}>
              {device(session.agent)}, {session.address}, last {when(session.seen_at)}
            </span>
            {session.this_one ? (
              <span className="text-soft">here</span>
            ) : (
              <Button kind="quiet" onClick={() => end.mutate(session.id)}>
                Sign out there
              </Button>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

function device(agent: string): string {
  const system = /Android|iPhone|iPad|Windows|Mac OS|Linux/.exec(agent)?.[0] ?? "unknown device";
  return system === "Mac OS" ? "Mac" : system;
}
