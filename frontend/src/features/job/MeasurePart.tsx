import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, type JobDetail, type Schema, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import { WireFinder } from "./WireFinder";

/** What led to it: a code, a name, or nothing but the wish to measure a part. */
export interface PartWanted {
  code: string;
  name: string;
}

const WIRES = [1, 2, 3, 4, 5, 6];

/** A part that nobody has described on this vehicle: which typical circuit is it most like? One tap begins to test it. */
export function MeasurePart(props: { detail: JobDetail; wanted: PartWanted | null; onClose: () => void }) {
  const { detail, wanted } = props;
  const jobId = detail.job.id;
  const navigate = useNavigate();
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [wires, setWires] = useState<number | null>(null);
  const [finding, setFinding] = useState(false);
  const code = wanted?.code ?? "";
  useEffect(() => {
    setName(wanted?.name ?? "");
    setWires(null);
    setFinding(false);
  }, [wanted]);
  const found = useQuery({
    queryKey: ["templates", name, code, wires],
    enabled: wanted !== null,
    placeholderData: keepPreviousData,
    queryFn: async () =>
      unwrap(
        await api.GET("/api/v1/templates", {
          params: { query: { said: name, code, ...(wires === null ? {} : { wires }) } },
        }),
      ),
  });
  const open = useMutation({
    mutationFn: ({ template, order }: { template: string; order: number[] }) =>
      sendOnce(["typical", jobId, template, order, name, code], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/jobs/{job_id}/typical", {
            params: { path: { job_id: jobId } },
            body: { client_key, template, name, code, order },
          }),
        ),
      ),
    onSuccess: (diagnosis) => {
      client.invalidateQueries({ queryKey: ["job", jobId] });
      navigate(`/measure/${diagnosis.id}`);
    },
  });
  const part = found.data?.part ?? "";
  const trouble = found.error ?? open.error;
  return (
    <Dialog.Root open={wanted !== null} onOpenChange={(now) => !now && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[6%] left-1/2 flex max-h-[88%] w-[min(46rem,96vw)] -translate-x-1/2 flex-col rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl first-letter:uppercase">
            {part ? `${part}: measure it` : "Measure a part that is not described"}
          </Dialog.Title>
          <Dialog.Description className="mb-3 text-soft">
            {detail.job.make} {detail.job.model} has no sheet here. Choose the circuit that it is most like;
            figures that differ from make to make are taken as ranges.
          </Dialog.Description>
          <div className="mb-3 grid gap-3 sm:grid-cols-[1fr_auto]">
            <label className="block text-sm text-soft">
              {part ? "If it is called otherwise" : "What the part is called"}
              <input
                // biome-ignore lint/a11y/noAutofocus: without a code the name is the one thing to say
                autoFocus={!code}
                value={name}
                maxLength={60}
                onChange={(event) => setName(event.target.value)}
                placeholder={part || "e.g. oil pressure switch, EGR valve, wiper motor"}
                className="mt-1 block min-h-11 w-full border border-ink/60 bg-raised px-3 text-base text-ink placeholder:text-soft"
              />
            </label>
            <fieldset className="text-sm text-soft">
              <legend>Wires at the plug, if counted</legend>
              <div className="mt-1 flex gap-1">
                {WIRES.map((count) => (
                  <Button
                    key={count}
                    className={`figure px-3 text-ink ${wires === count ? "border-2 border-ink bg-buff" : ""}`}
                    aria-pressed={wires === count}
                    onClick={() => {
                      setWires(wires === count ? null : count);
                      if (wires === count || count === 1) setFinding(false);
                    }}
                  >
                    {count}
                  </Button>
                ))}
              </div>
            </fieldset>
          </div>
          {trouble && <Notice tone="problem">{trouble.message}</Notice>}
          {finding && wires !== null && (
            <WireFinder
              key={wires}
              wires={wires}
              code={code}
              said={name}
              busy={open.isPending}
              onMeasure={(template, order) => open.mutate({ template, order })}
            />
          )}
          <ul
            hidden={finding}
            className="min-h-0 flex-1 overflow-auto border-t border-rule"
            aria-label="Typical circuits"
            aria-busy={found.isFetching}
          >
            {found.data?.templates.map((template, index) => (
              <TemplateRow
                key={template.id}
                template={template}
                first={index === 0 && (code !== "" || name !== "")}
                busy={open.isPending}
                onOpen={() => open.mutate({ template: template.id, order: [] })}
              />
            ))}
          </ul>
          {!finding && found.data?.templates.length === 0 && (
            <p className="py-2">Nothing is called that. Another name, or fewer words?</p>
          )}
          <div className="mt-3 flex items-center justify-between gap-3">
            {wires !== null && wires > 1 ? (
              <Button kind="quiet" onClick={() => setFinding(!finding)} aria-pressed={finding}>
                {finding ? "Back to the circuits" : "Which wire is which?"}
              </Button>
            ) : (
              <span className="text-sm text-soft">
                Wires unlabelled? Say how many: they are told apart by voltages.
              </span>
            )}
            <Link
              className="min-h-11 py-2 text-soft underline underline-offset-4"
              to={`/describe?job=${jobId}&part=${encodeURIComponent(name || part)}&code=${encodeURIComponent(code)}`}
            >
              I have the wiring sheet
            </Link>
            <Button kind="quiet" onClick={props.onClose}>
              Cancel
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function TemplateRow(props: {
  template: Schema["TemplateView"];
  first: boolean;
  busy: boolean;
  onOpen: () => void;
}) {
  const { template } = props;
  return (
    <li className="flex items-center gap-3 border-b border-rule py-2" data-template={template.id}>
      <div className="min-w-0 flex-1">
        <strong className="font-[650]">{template.title}</strong>
        <div className="text-sm text-soft">
          {template.carries.length > 0 ? template.carries.join(" · ") : "judged at the module's own plug"}
        </div>
      </div>
      <Button kind={props.first ? "next" : "plain"} onClick={props.onOpen} disabled={props.busy}>
        Measure
      </Button>
    </li>
  );
}
