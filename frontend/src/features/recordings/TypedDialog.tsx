import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { useNavigate } from "react-router";
import { ApiError, api, type Schema, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { TextField } from "../../ui/TextField";

const FIGURES = [
  ["rest", "at rest"],
  ["least", "least"],
  ["greatest", "greatest"],
  ["command_off", "command off"],
  ["command_on", "command on"],
] as const;
type Row = Record<"name" | "unit" | (typeof FIGURES)[number][0], string>;
const EMPTY: Row = { name: "", unit: "", rest: "", least: "", greatest: "", command_off: "", command_on: "" };
const MOST = 6;

/** Figures that were read off a display which records nothing: at rest, the least, the greatest, with the command off and on. */
export function TypedDialog(props: { jobId: string; onClose: () => void }) {
  const { jobId, onClose } = props;
  const navigate = useNavigate();
  const client = useQueryClient();
  const [rows, setRows] = useState<Row[]>([EMPTY]);
  const [about, setAbout] = useState({ name: "Read off the display", command: "", off: "off", on: "on" });
  const figure = (text: string) => {
    const plain = text.trim().replace("−", "-").replace(",", ".");
    return plain === "" ? null : Number(plain);
  };
  const filled = rows.filter((row) => row.name.trim() !== "");
  const wrong = filled.flatMap((row) =>
    FIGURES.filter(([key]) => Number.isNaN(figure(row[key]) ?? 0)).map(([key]) => row[key]),
  );
  const keep = useMutation({
    mutationFn: () =>
      sendOnce(["typed", jobId, about, filled], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/recordings/typed", {
            params: { path: { job_id: jobId } },
            body: {
              client_key,
              ...about,
              channels: filled.map((row) => ({
                name: row.name.trim(),
                unit: row.unit.trim(),
                ...(Object.fromEntries(FIGURES.map(([key]) => [key, figure(row[key])])) as Omit<
                  Schema["TypedChannelIn"],
                  "name" | "unit"
                >),
              })),
            },
          }),
        ),
      ),
    onSuccess: (made) => {
      client.invalidateQueries({ queryKey: ["recordings", jobId] });
      navigate(`/recordings/${made.id}`);
    },
  });
  const set = (index: number, change: Partial<Row>) =>
    setRows((now) => now.map((row, place) => (place === index ? { ...row, ...change } : row)));
  const cell = "min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink";
  return (
    <Dialog.Root open onOpenChange={(now) => !now && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[6%] left-1/2 max-h-[90%] w-[min(60rem,96vw)] -translate-x-1/2 overflow-auto rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">Figures from a display</Dialog.Title>
          <Dialog.Description className="mb-3 text-soft">
            For a scan tool or gauge that records nothing. Leave out what was not read. How late or how fast
            anything follows is not known from it.
          </Dialog.Description>
          <form
            className="space-y-3"
            onSubmit={(event) => {
              event.preventDefault();
              keep.mutate();
            }}
          >
            <div className="grid gap-3 sm:grid-cols-[2fr_2fr_1fr_1fr]">
              {(
                [
                  ["name", "Name of the recording"],
                  ["command", "What was commanded, if anything"],
                  ["off", "Its position off"],
                  ["on", "and on"],
                ] as const
              ).map(([key, label]) => (
                <TextField
                  key={key}
                  label={label}
                  value={about[key]}
                  maxLength={key === "name" ? 120 : 40}
                  onChange={(event) => setAbout((now) => ({ ...now, [key]: event.target.value }))}
                />
              ))}
            </div>
            <div className="overflow-x-auto">
              <table className="w-full min-w-[44rem] text-sm">
                <thead>
                  <tr className="text-left text-soft">
                    <th className="font-[400]">Channel</th>
                    <th className="font-[400]">Unit</th>
                    {FIGURES.map(([key, label]) => (
                      <th key={key} className="font-[400]">
                        {label}
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {rows.map((row, index) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: lines are only added at the end
                    <tr key={index}>
                      {(["name", "unit", ...FIGURES.map(([key]) => key)] as (keyof Row)[]).map((key) => (
                        <td key={key} className={key === "name" ? "w-52 pr-1" : "pr-1"}>
                          <input
                            aria-label={`${key.replace("_", " ")}, line ${index + 1}`}
                            className={cell}
                            value={row[key]}
                            inputMode={key === "name" || key === "unit" ? "text" : "decimal"}
                            maxLength={key === "name" ? 120 : 20}
                            onChange={(event) => set(index, { [key]: event.target.value })}
                          />
                        </td>
                      ))}
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
            {rows.length < MOST && (
              <Button onClick={() => setRows((now) => [...now, EMPTY])}>Another channel</Button>
            )}
            {wrong.length > 0 && <Notice tone="problem">Not a figure: {wrong.join(", ")}</Notice>}
            {keep.error && (
              <Notice tone="problem">
                {keep.error instanceof ApiError
                  ? (keep.error.problem.errors?.[0]?.message ?? keep.error.problem.detail)
                  : "The server does not answer."}
              </Notice>
            )}
            <div className="flex justify-end gap-3">
              <Button kind="quiet" onClick={onClose}>
                Cancel
              </Button>
              <Button
                kind="next"
                type="submit"
                disabled={
                  filled.length === 0 || wrong.length > 0 || about.name.trim() === "" || keep.isPending
                }
              >
                {keep.isPending ? "Keeping …" : "Keep the figures"}
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
