import { useMutation, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { ApiError, api, type JobDetail, type Schema, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

export interface CodeFile {
  name: string;
  text: string;
}

/** A file of codes before it is kept: how it was read, every code with its line, what is doubtful, what was left out. */
export function ImportDialog(props: {
  jobId: string;
  file: CodeFile | null;
  conditions: string[];
  onClose: () => void;
  onKept: (answer: JobDetail) => void;
}) {
  const text = props.file?.text ?? "";
  const path = { params: { path: { job_id: props.jobId } } };
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const look = useQuery({
    queryKey: ["code-file", props.jobId, text],
    enabled: props.file !== null,
    retry: false,
    queryFn: async () =>
      unwrap(await api.POST("/api/v1/jobs/{job_id}/scans/preview", { ...path, body: { text } })),
  });
  const found = look.data;
  useEffect(() => {
    setChosen(new Set(found?.rows.filter((row) => !row.doubt).map((row) => row.row)));
  }, [found]);
  const keep = useMutation({
    mutationFn: async () => {
      const body = {
        source: "import" as const,
        text,
        rows: [...chosen].sort((a, b) => a - b),
        conditions: props.conditions,
        none_stored: false,
      };
      return sendOnce([props.jobId, body], async (client_key) =>
        unwrap(await api.POST("/api/v1/jobs/{job_id}/scans", { ...path, body: { client_key, ...body } })),
      );
    },
    onSuccess: (answer) => {
      props.onKept(answer);
      props.onClose();
    },
  });
  const trouble = look.error ?? keep.error;
  const count = chosen.size;
  return (
    <Dialog.Root open={props.file !== null} onOpenChange={(open) => !open && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[6%] left-1/2 flex max-h-[88%] w-[min(60rem,96vw)] -translate-x-1/2 flex-col rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">Codes in “{props.file?.name}”</Dialog.Title>
          <Dialog.Description className="mb-2 text-soft">
            {found
              ? `${found.form}. Only the ticked rows are kept; compare them with the file.`
              : "Nothing is kept before you have looked at it."}
          </Dialog.Description>
          {trouble && (
            <Notice tone="problem">
              {trouble instanceof ApiError
                ? trouble.problem.detail
                : "The server does not answer. Try again."}
            </Notice>
          )}
          {found && (
            <div className="min-h-0 flex-1 overflow-auto border-y border-rule" data-testid="code-file">
              <Rows rows={found.rows} chosen={chosen} onChoose={setChosen} />
              {found.left_out.length > 0 && (
                <>
                  <h3 className="mt-3 font-[650]">Not understood, and left out</h3>
                  <ul className="text-sm" aria-label="Lines left out">
                    {found.left_out.map((line) => (
                      <li key={line.line} className="border-t border-rule py-1">
                        <span className="text-soft">line {line.line}</span>{" "}
                        <code className="break-all">{line.text}</code>{" "}
                        <strong className="font-[650]">{line.why}</strong>
                      </li>
                    ))}
                  </ul>
                </>
              )}
              {found.unused.length > 0 && (
                <p className="mt-2 text-sm text-soft">Columns not used: {found.unused.join(", ")}</p>
              )}
            </div>
          )}
          <div className="mt-4 flex justify-end gap-2">
            <Button kind="quiet" onClick={props.onClose}>
              Keep nothing
            </Button>
            <Button onClick={() => keep.mutate()} disabled={count === 0 || keep.isPending}>
              Keep {count} {count === 1 ? "code" : "codes"}
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Rows(props: {
  rows: Schema["CodeFileRow"][];
  chosen: ReadonlySet<number>;
  onChoose: (chosen: ReadonlySet<number>) => void;
}) {
  const turn = (row: number) => {
    const next = new Set(props.chosen);
    if (!next.delete(row)) next.add(row);
    props.onChoose(next);
  };
  return (
    <table className="w-full text-left text-sm">
      <thead className="sticky top-0 bg-paper text-soft">
        <tr>
          <th className="py-1 pr-2 font-normal">Keep</th>
          <th className="py-1 pr-2 font-normal">Module</th>
          <th className="py-1 pr-2 font-normal">Code</th>
          <th className="py-1 pr-2 font-normal">Status</th>
          <th className="py-1 font-normal">In the file</th>
        </tr>
      </thead>
      <tbody>
        {props.rows.map((row) => (
          <tr key={row.row} className="border-t border-rule align-middle" data-doubt={row.doubt}>
            <td className="pr-2">
              <label className="flex min-h-11 min-w-11 items-center">
                <input
                  type="checkbox"
                  className="h-5 w-5 accent-ink"
                  checked={props.chosen.has(row.row)}
                  onChange={() => turn(row.row)}
                />
                <span className="sr-only">Keep {row.code}</span>
              </label>
            </td>
            <td className="pr-2">{row.module || "–"}</td>
            <td className="figure pr-2 text-base whitespace-nowrap">
              {row.code}
              {row.failure_type ? `-${row.failure_type}` : ""}
            </td>
            <td className="pr-2">{row.status_words.join(", ") || "not said"}</td>
            <td>
              {row.words && <strong className="block font-[650]">{row.words}</strong>}
              <span className="text-soft">line {row.line}</span> <code className="break-all">{row.text}</code>
              {row.doubt && <span className="ml-1 bg-buff px-1 font-[650]">{row.doubt}</span>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
