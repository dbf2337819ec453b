import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { ApiError, api, type Me, type Schema, unwrap } from "../../api/client";
import { AskDialog } from "../../ui/AskDialog";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";

type Account = Schema["AccountView"];
type Role = Account["role"];
const ROLES: Role[] = ["read-only", "technician", "lead"];
const KEY = ["accounts"];

/** Who can sign in, and what they may do. */
export function People({ me }: { me: Me }) {
  const client = useQueryClient();
  const form = useRef<HTMLFormElement>(null);
  const [resetting, setResetting] = useState<Account | null>(null);
  const list = useQuery({ queryKey: KEY, queryFn: async () => unwrap(await api.GET("/api/v1/accounts")) });
  const take = (answer: Schema["AccountList"]) => client.setQueryData(KEY, answer);
  const add = useMutation({
    mutationFn: async (data: FormData) =>
      unwrap(
        await api.POST("/api/v1/accounts", {
          body: {
            sign_in: String(data.get("sign_in")).trim(),
            name: String(data.get("name")).trim(),
            role: String(data.get("role")) as Role,
            password: String(data.get("password")),
          },
        }),
      ),
    onSuccess: (answer) => {
      form.current?.reset();
      take(answer);
    },
  });
  const change = useMutation({
    mutationFn: async (account: Account) =>
      unwrap(
        await api.PUT("/api/v1/accounts/{account_id}", {
          params: { path: { account_id: account.id } },
          body: { name: account.name, role: account.role, active: account.active },
        }),
      ),
    onSuccess: take,
  });
  const reset = useMutation({
    mutationFn: async ({ id, password }: { id: string; password: string }) =>
      unwrap(
        await api.PUT("/api/v1/accounts/{account_id}/password", {
          params: { path: { account_id: id } },
          body: { password },
        }),
      ),
    onSuccess: take,
  });
  const problem = add.error instanceof ApiError ? add.error.problem : null;
  const trouble = change.error ?? reset.error;
  return (
    <section className="space-y-3">
      <h2 className="text-xl">People</h2>
      <ul className="border-t border-rule text-sm">
        {list.data?.accounts.map((account) => (
          <li
            key={account.id}
            className="flex min-h-12 flex-wrap items-center gap-x-3 border-b border-rule py-1"
          >
            <span className={`min-w-40 flex-1 ${account.active ? "" : "line-through opacity-70"}`}>
              <strong className="font-[650]">{account.name}</strong>{" "}
              <span className="text-soft">{account.sign_in}</span>
            </span>
            <select
              aria-label={`Role of ${account.name}`}
              className="min-h-11 rounded-sm border border-ink/60 bg-raised px-2"
              value={account.role}
              onChange={(event) => change.mutate({ ...account, role: event.target.value as Role })}
            >
              {ROLES.map((role) => (
                <option key={role}>{role}</option>
              ))}
            </select>
            <Button kind="quiet" onClick={() => setResetting(account)}>
              New password
            </Button>
            {account.id !== me.account_id && (
              <Button kind="quiet" onClick={() => change.mutate({ ...account, active: !account.active })}>
                {account.active ? "Switch off" : "Switch on"}
              </Button>
            )}
          </li>
        ))}
      </ul>
      {trouble && <Notice tone="problem">{trouble.message}</Notice>}
      <details>
        <summary className="min-h-11 cursor-pointer py-2 font-[650]">Add someone</summary>
        <form
          ref={form}
          className="grid grid-cols-2 gap-3"
          onSubmit={(event) => {
            event.preventDefault();
            add.mutate(new FormData(event.currentTarget));
          }}
        >
          <TextField name="name" label="Name" problem={problem} required />
          <TextField name="sign_in" label="Signs in as" problem={problem} required autoComplete="off" />
          <TextField
            name="password"
            label="First password"
            type="password"
            problem={problem}
            required
            autoComplete="new-password"
          />
          <label className="text-sm text-soft">
            Role
            <select
              name="role"
              defaultValue="technician"
              className="mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink"
            >
              {ROLES.map((role) => (
                <option key={role}>{role}</option>
              ))}
            </select>
          </label>
          <Button type="submit" className="justify-self-start" disabled={add.isPending}>
            Add
          </Button>
        </form>
      </details>
      <AskDialog
        open={resetting !== null}
        title={`New password for ${resetting?.name ?? ""}`}
        choices={[]}
        accept="Set it"
        onClose={() => setResetting(null)}
        onAccept={(password) => {
          if (resetting) reset.mutate({ id: resetting.id, password });
          setResetting(null);
        }}
      >
        At least 10 characters. They are signed out everywhere and can change it themselves.
      </AskDialog>
    </section>
  );
}
