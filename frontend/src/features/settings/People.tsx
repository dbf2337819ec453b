import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { z } from "zod";
import { api, type Me, type Schema, unwrap } from "../../api/client";
import { listsQuery } from "../../api/queries";
import { required, useServerForm } from "../../lib/forms";
import { AskDialog } from "../../ui/AskDialog";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";

type Account = Schema["AccountView"];
type Role = Account["role"];
const KEY = ["accounts"];
const SCHEMA = z.object({
  name: required("The name"),
  sign_in: required("The name to sign in with"),
  password: z.string().min(10, "At least 10 characters"),
  role: z.enum(["read-only", "technician", "lead"]),
});

/** Who can sign in, and what they may do. */
export function People({ me }: { me: Me }) {
  const client = useQueryClient();
  const lists = useQuery(listsQuery);
  const [resetting, setResetting] = useState<Account | null>(null);
  const list = useQuery({ queryKey: KEY, queryFn: async () => unwrap(await api.GET("/api/v1/accounts")) });
  const take = (answer: Schema["AccountList"]) => client.setQueryData(KEY, answer);
  const { form, field, submit, sending, trouble } = useServerForm({
    schema: SCHEMA,
    defaults: { sign_in: "", name: "", role: "technician", password: "" },
    send: async (body) => unwrap(await api.POST("/api/v1/accounts", { body })),
    onDone: (answer, clear) => {
      clear();
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
  const failed = trouble ?? (change.error ?? reset.error)?.message;
  const roles = lists.data?.roles ?? [];
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
              {roles.map((role) => (
                <option key={role.key} value={role.key}>
                  {role.title}
                </option>
              ))}
            </select>
            <Button kind="quiet" onClick={() => setResetting(account)}>
              New password
            </Button>
            {account.id !== me.account_id && (
              <Button kind="quiet" onClick={() => change.mutate({ ...account, active: !account.active })}>
                {account.active ? "Deactivate" : "Activate"}
              </Button>
            )}
          </li>
        ))}
      </ul>
      {failed && <Notice tone="problem">{failed}</Notice>}
      <details>
        <summary className="min-h-11 cursor-pointer py-2 font-[650]">Add someone</summary>
        <form className="grid grid-cols-2 gap-3" onSubmit={submit} noValidate>
          <TextField label="Name" {...field("name")} />
          <TextField label="Name to sign in with" autoComplete="off" {...field("sign_in")} />
          <TextField
            label="First password"
            type="password"
            autoComplete="new-password"
            {...field("password")}
          />
          <label className="text-sm text-soft">
            Role
            <select
              {...form.register("role")}
              className="mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink"
            >
              {roles.map((role) => (
                <option key={role.key} value={role.key}>
                  {role.title}
                </option>
              ))}
            </select>
          </label>
          <Button type="submit" className="justify-self-start" disabled={sending.isPending}>
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
