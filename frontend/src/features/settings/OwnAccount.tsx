import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { ApiError, api, type Me, unwrap } from "../../api/client";
import { accept, meQuery } from "../../api/session";
import { when } from "../../lib/format";
import { applyTheme, systemTheme } from "../../lib/theme";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { Picks } from "../../ui/Picks";
import { TextField } from "../../ui/TextField";

const THEMES = [
  { key: "system", title: "as the device" },
  { key: "light", title: "day" },
  { key: "dark", title: "night" },
];

/** Theme, password, and where one is signed in. */
export function OwnAccount({ me }: { me: Me }) {
  const client = useQueryClient();
  const form = useRef<HTMLFormElement>(null);
  const theme = useMutation({
    mutationFn: async (value: "system" | "light" | "dark") => {
      applyTheme(value === "system" ? systemTheme() : value);
      return unwrap(await api.PUT("/api/v1/me/theme", { body: { theme: value } }));
    },
    onSuccess: (answer) => client.setQueryData(meQuery.queryKey, answer),
  });
  const password = useMutation({
    mutationFn: async (data: FormData) =>
      unwrap(
        await api.PUT("/api/v1/me/password", {
          body: { old: String(data.get("old")), new: String(data.get("new")) },
        }),
      ),
    onSuccess: (answer) => {
      form.current?.reset();
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
  const problem = password.error instanceof ApiError ? password.error.problem : null;
  return (
    <section className="space-y-3">
      <h2 className="text-xl">{me.name}</h2>
      <p className="text-soft">
        Signs in as {me.sign_in}, {me.role}
      </p>
      <Picks
        label="Theme"
        single
        options={THEMES}
        chosen={[me.theme]}
        onChange={([key]) => theme.mutate((key ?? "system") as "system" | "light" | "dark")}
      />
      <form
        ref={form}
        className="grid grid-cols-2 items-start gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          password.mutate(new FormData(event.currentTarget));
        }}
      >
        <TextField
          name="old"
          label="Password now"
          type="password"
          problem={problem}
          required
          autoComplete="current-password"
        />
        <TextField
          name="new"
          label="New password"
          type="password"
          problem={problem}
          required
          autoComplete="new-password"
        />
        <Button type="submit" disabled={password.isPending} className="justify-self-start">
          Change password
        </Button>
      </form>
      {password.isSuccess && <p role="status">Changed. You are signed out everywhere else.</p>}
      {problem && !problem.errors?.length && <Notice tone="problem">{problem.detail}</Notice>}
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
