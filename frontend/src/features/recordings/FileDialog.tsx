import { useMutation, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { ApiError, api, unwrap } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { filePreviewQuery, type Mapping, type Recording } from "./calls";

const DELIMITERS: Record<Mapping["delimiter"], string> = {
  "\t": "tab",
  ";": "semicolon",
  ",": "comma",
  "|": "upright stroke",
  " ": "blanks",
};
const TIMES: Record<NonNullable<Mapping["columns"][number]["time_form"]>, string> = {
  s: "seconds",
  ms: "milliseconds",
  us: "microseconds",
  min: "minutes",
  clock: "time of day",
  date: "date and time",
};
const KINDS = ["time", "number", "words", "left out"] as const;
const ROLES = ["signal", "command", "feedback", "supply", "reference", "counter"] as const;
const FIELD = "min-h-11 rounded-sm border border-ink/60 bg-raised px-2 text-ink";

/** A file before it is read: how its lines and columns were understood, to be put right where they were not. */
export function FileDialog(props: {
  recording: Recording | null;
  onClose: () => void;
  onReading: () => void;
}) {
  const id = props.recording?.id ?? null;
  const look = useQuery(filePreviewQuery(id));
  const [mapping, setMapping] = useState<Mapping | null>(null);
  const found = look.data;
  useEffect(() => setMapping(found?.mapping ?? null), [found]);
  const read = useMutation({
    mutationFn: async () =>
      unwrap(
        await api.POST("/api/v1/recordings/{recording_id}/reading", {
          params: { path: { recording_id: id as string } },
          body: { mapping },
        }),
      ),
    onSuccess: () => {
      props.onReading();
      props.onClose();
    },
  });
  const trouble = look.error ?? read.error;
  return (
    <Dialog.Root open={id !== null} onOpenChange={(open) => !open && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[6%] left-1/2 flex max-h-[88%] w-[min(66rem,96vw)] -translate-x-1/2 flex-col rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">Read “{props.recording?.name}”</Dialog.Title>
          <Dialog.Description className="mb-2 text-soft">
            {found?.form === "MDF 4"
              ? "An MDF 4 file: names, units and times stand in it."
              : found?.remembered
                ? "Read as the last file from the same source was. Put right what is not so."
                : "This is how it was understood. Put right what is not so; the next file from the same source is read in the same way."}
          </Dialog.Description>
          {trouble && (
            <Notice tone="problem">
              {trouble instanceof ApiError
                ? trouble.problem.detail
                : "The server does not answer. Try again."}
            </Notice>
          )}
          {found?.doubts.map((doubt) => (
            <Notice key={doubt} tone="note">
              {doubt}
            </Notice>
          ))}
          {mapping && found && <Columns mapping={mapping} rows={found.rows} onChange={setMapping} />}
          <div className="mt-4 flex justify-end gap-2">
            <Button kind="quiet" onClick={props.onClose}>
              Later
            </Button>
            <Button kind="next" onClick={() => read.mutate()} disabled={!found || read.isPending}>
              Read it
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Columns(props: { mapping: Mapping; rows: string[][]; onChange: (mapping: Mapping) => void }) {
  const { mapping } = props;
  const set = (changes: Partial<Mapping>) => props.onChange({ ...mapping, ...changes });
  const column = (at: number, changes: Partial<Mapping["columns"][number]>) =>
    set({ columns: mapping.columns.map((one) => (one.at === at ? { ...one, ...changes } : one)) });
  const timed = mapping.columns.some((one) => one.kind === "time");
  return (
    <>
      <div className="mb-2 flex flex-wrap items-end gap-4 text-sm text-soft">
        <label>
          Columns divided by
          <select
            className={`${FIELD} mt-1 block`}
            value={mapping.delimiter}
            onChange={(event) => set({ delimiter: event.target.value as Mapping["delimiter"] })}
          >
            {Object.entries(DELIMITERS).map(([sign, name]) => (
              <option key={sign} value={sign}>
                {name}
              </option>
            ))}
          </select>
        </label>
        <label>
          Decimal sign
          <select
            className={`${FIELD} mt-1 block`}
            value={mapping.decimal}
            onChange={(event) => set({ decimal: event.target.value as "." | "," })}
          >
            <option value=".">point</option>
            <option value=",">comma</option>
          </select>
        </label>
        <label>
          Lines before the figures
          <input
            className={`${FIELD} mt-1 block w-24`}
            type="number"
            min={0}
            value={mapping.head}
            onChange={(event) => set({ head: Number(event.target.value) })}
          />
        </label>
        {!timed && (
          <label>
            Samples a second
            <input
              className={`${FIELD} mt-1 block w-28`}
              type="number"
              min={0}
              step="any"
              value={mapping.rate_hz ?? 0}
              onChange={(event) => set({ rate_hz: Number(event.target.value) })}
            />
          </label>
        )}
      </div>
      <div className="min-h-0 flex-1 overflow-auto border-y border-rule" data-testid="recording-columns">
        <table className="text-sm">
          <thead>
            <tr className="align-bottom">
              {mapping.columns.map((one) => (
                <th key={one.at} className="border-r border-rule px-2 py-2 text-left font-normal">
                  <input
                    aria-label={`Name of column ${one.at + 1}`}
                    className={`${FIELD} mb-1 block w-36 font-[650]`}
                    value={one.name}
                    onChange={(event) => column(one.at, { name: event.target.value })}
                  />
                  <select
                    aria-label={`What ${one.name} is`}
                    className={`${FIELD} mb-1 block w-36`}
                    value={one.kind}
                    onChange={(event) =>
                      column(one.at, { kind: event.target.value as (typeof KINDS)[number] })
                    }
                  >
                    {KINDS.map((kind) => (
                      <option key={kind} value={kind}>
                        {kind === "number" ? "figures" : kind}
                      </option>
                    ))}
                  </select>
                  {one.kind === "time" ? (
                    <select
                      aria-label={`How ${one.name} counts`}
                      className={`${FIELD} block w-36`}
                      value={one.time_form}
                      onChange={(event) =>
                        column(one.at, { time_form: event.target.value as keyof typeof TIMES })
                      }
                    >
                      {Object.entries(TIMES).map(([form, words]) => (
                        <option key={form} value={form}>
                          {words}
                        </option>
                      ))}
                    </select>
                  ) : one.kind === "number" ? (
                    <span className="flex gap-1">
                      <input
                        aria-label={`Unit of ${one.name}`}
                        placeholder="unit"
                        className={`${FIELD} block w-14`}
                        value={one.unit}
                        onChange={(event) => column(one.at, { unit: event.target.value })}
                      />
                      <select
                        aria-label={`Part of ${one.name}`}
                        className={`${FIELD} block w-[5.4rem]`}
                        value={one.role}
                        onChange={(event) =>
                          column(one.at, { role: event.target.value as (typeof ROLES)[number] })
                        }
                      >
                        {ROLES.map((role) => (
                          <option key={role}>{role}</option>
                        ))}
                      </select>
                    </span>
                  ) : (
                    one.kind === "words" && (
                      <select
                        aria-label={`Part of ${one.name}`}
                        className={`${FIELD} block w-36`}
                        value={one.role === "command" ? "command" : "signal"}
                        onChange={(event) =>
                          column(one.at, { role: event.target.value as "command" | "signal" })
                        }
                      >
                        <option value="signal">state</option>
                        <option value="command">command</option>
                      </select>
                    )
                  )}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {props.rows.map((row, index) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: rows of a file have nothing but their place
              <tr key={index} className="border-t border-rule">
                {mapping.columns.map((one) => (
                  <td
                    key={one.at}
                    className={`figure border-r border-rule px-2 py-1 ${one.kind === "left out" ? "text-soft line-through" : ""}`}
                  >
                    {row[one.at]}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
