import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import {
  ApiError,
  api,
  type Circuit,
  type Measuring,
  type Schema,
  type TestIn,
  unwrap,
} from "../../../api/client";
import { listsQuery, measuringQuery } from "../../../api/queries";
import { sendOnce } from "../../../lib/keys";
import { Button } from "../../../ui/Button";
import { Notice } from "../../../ui/Notice";
import { Picks } from "../../../ui/Picks";
import { TextField } from "../../../ui/TextField";

type Limit = Measuring["limits"][number];
type Typed = Omit<Schema["LimitIn"], "id" | "test" | "copper_at_c"> & { copper_at_c: string };

/** A limit that is written down for a test, or changed. */
export interface Editing {
  limit: Limit | null;
  test: TestIn;
  where: string;
}

interface Props {
  diagnosisId: string;
  circuit: Circuit;
  editing: Editing;
  onClose: () => void;
}

/** Writing down a figure from a book, from good vehicles or from experience: where and when it holds is what is set up. */
export function LimitDialog({ diagnosisId, circuit, editing, onClose }: Props) {
  const { limit, test } = editing;
  const device = circuit.instruments.find((one) => one.id === test.instrument);
  const lists = useQuery(listsQuery);
  const client = useQueryClient();
  const [typed, setTyped] = useState<Typed>({
    title: limit?.title ?? "",
    least: limit?.entry?.least ?? "",
    most: limit?.entry?.most ?? "",
    word: limit?.entry?.word ?? "",
    typical: limit?.entry?.typical ?? "",
    copper_at_c: String(limit?.entry?.copper_at_c ?? ""),
    source: limit?.entry?.source ?? "manufacturer",
    note: limit?.note ?? "",
  });
  const set = (change: Partial<Typed>) => setTyped((now) => ({ ...now, ...change }));
  const done = (answer: Measuring) => {
    client.setQueryData(measuringQuery(diagnosisId).queryKey, answer);
    client.invalidateQueries({ queryKey: ["timeline"], refetchType: "none" });
    onClose();
  };
  const path = { diagnosis_id: diagnosisId };
  const at = typed.copper_at_c.trim().replace(",", ".");
  const keep = useMutation({
    mutationFn: () =>
      sendOnce(["limit", diagnosisId, limit?.id ?? "", typed, test], async (client_key) =>
        unwrap(
          await api.PUT("/api/v1/diagnoses/{diagnosis_id}/limits", {
            params: { path },
            body: {
              client_key,
              limit: { ...typed, id: limit?.id ?? "", test, copper_at_c: at === "" ? null : Number(at) },
            },
          }),
        ),
      ),
    onSuccess: done,
  });
  const drop = useMutation({
    mutationFn: () =>
      sendOnce(["drop limit", diagnosisId, limit?.id ?? ""], async (client_key) =>
        unwrap(
          await api.DELETE("/api/v1/diagnoses/{diagnosis_id}/limits/{limit_id}", {
            params: { path: { ...path, limit_id: limit?.id ?? "" }, query: { client_key } },
          }),
        ),
      ),
    onSuccess: done,
  });
  const trouble = keep.error ?? drop.error;
  const problems = trouble instanceof ApiError ? (trouble.problem.errors ?? []) : [];
  const problem = (field: string) => problems.find((one) => one.field.split(".").at(-1) === field)?.message;
  const shown = new Set(["title", "least", "most", "word", "typical", "copper_at_c", "note"]);
  const elsewhere = problems.filter((one) => !shown.has(one.field.split(".").at(-1) ?? ""));
  const unit = device?.unit ? `, ${device.unit}` : "";
  const field = (name: keyof Typed, label: string, hint?: string) => (
    <TextField
      label={label}
      value={typed[name]}
      problem={problem(name)}
      placeholder={hint}
      maxLength={name === "note" ? 300 : name === "title" ? 120 : 30}
      onChange={(event) => set({ [name]: event.target.value })}
    />
  );
  return (
    <Dialog.Root open onOpenChange={(now) => !now && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[8%] left-1/2 max-h-[88%] w-[min(36rem,96vw)] -translate-x-1/2 overflow-auto rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">{limit ? "Change a limit" : "A limit of your own"}</Dialog.Title>
          <Dialog.Description className="mb-3">{editing.where}</Dialog.Description>
          <form
            className="space-y-3"
            onSubmit={(event) => {
              event.preventDefault();
              keep.mutate();
            }}
          >
            {field("title", "What is it a limit of?", "resistance of the winding, reference at the plug …")}
            {device?.figures && (
              <div className="grid grid-cols-3 gap-3">
                {field("least", `Least${unit}`)}
                {field("most", `Most${unit}`)}
                {field("typical", `Usually${unit}`)}
              </div>
            )}
            {device && device.words.length > 0 && (
              <div>
                <span className="text-sm text-soft">
                  {device.figures ? "Or a word that it must show" : "What it must show"}
                </span>
                <Picks
                  label="Word that it must show"
                  single
                  options={device.words.map((word) => ({ key: word.word, title: word.label }))}
                  chosen={typed.word ? [typed.word] : []}
                  onChange={([word = ""]) => set({ word })}
                />
                {problem("word") && <p className="mt-1 text-sm font-[600]">{problem("word")}</p>}
              </div>
            )}
            {device?.unit === "Ω" && (
              <div className="w-1/2">
                {field("copper_at_c", "The figures of a winding hold at, °C", "20")}
              </div>
            )}
            <div>
              <span className="text-sm text-soft">Whose figure is it?</span>
              <Picks
                label="Whose figure is it?"
                single
                options={(lists.data?.sources ?? []).filter(
                  (one) => one.key !== "predicted" || typed.source === one.key,
                )}
                chosen={[typed.source]}
                onChange={([source]) => source && set({ source: source as Typed["source"] })}
              />
            </div>
            {field("note", "Where it stands: book, page, sheet")}
            {elsewhere.map((one) => (
              <Notice key={one.field} tone="problem">
                {one.message}
              </Notice>
            ))}
            {trouble && problems.length === 0 && <Notice tone="problem">{trouble.message}</Notice>}
            <div className="flex flex-wrap items-center justify-end gap-3">
              {limit && (
                <span className="mr-auto">
                  <Button kind="quiet" disabled={drop.isPending} onClick={() => drop.mutate()}>
                    Take it away
                  </Button>
                </span>
              )}
              <Button kind="quiet" onClick={onClose}>
                Cancel
              </Button>
              <Button kind="next" type="submit" disabled={typed.title.trim() === "" || keep.isPending}>
                {keep.isPending ? "Keeping …" : "Keep the limit"}
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
