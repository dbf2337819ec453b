import { Dialog } from "radix-ui";
import { useState } from "react";
import type { Circuit, TestIn } from "../../../api/client";
import { minutes } from "../../../lib/format";
import { Button } from "../../../ui/Button";

type Connector = Circuit["connectors"][number];

interface Props {
  connector: Connector | null;
  test: TestIn | null;
  onClose: () => void;
  onPoint: (ref: string) => void;
}

/** The face of a connector with its cavities: probing the wrong one is the commonest error. */
export function ConnectorFace({ connector, test, onClose, onPoint }: Props) {
  const [mating, setMating] = useState(false);
  const columns = connector ? Math.ceil(connector.cavities.length / connector.rows) : 1;
  const rows = connector
    ? Array.from({ length: connector.rows }, (_, row) => {
        const cells = connector.cavities.slice(row * columns, (row + 1) * columns);
        return mating ? cells.reverse() : cells;
      })
    : [];
  return (
    <Dialog.Root open={connector !== null} onOpenChange={(open) => !open && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[12%] left-1/2 w-[min(46rem,95vw)] -translate-x-1/2 rounded-sm bg-paper p-5 shadow-xl">
          {connector && (
            <>
              <Dialog.Title className="text-xl">
                {connector.title || "Connector"} {connector.id}
              </Dialog.Title>
              <Dialog.Description className="mb-3 text-soft">
                {connector.place && `${connector.place}, `}
                {minutes(connector.access_min)} to reach. Seen{" "}
                <strong className="text-ink">
                  {mating ? "on the open face, pins towards you" : "from the wire side"}
                </strong>
                {connector.back_probe
                  ? "; it can be back-probed."
                  : "; sealed: while it is connected, only through a break-out lead, never through seal or wire."}{" "}
                Count from the number moulded into the housing; the file's order of rows is assumed here.
              </Dialog.Description>
              <div
                className="grid gap-2 rounded-md border-2 border-ink p-3"
                style={{ gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))` }}
              >
                {rows.flat().map((cavity) => {
                  const ref = `${connector.id}.${cavity.number}`;
                  const probe =
                    test?.red.replace("/c", "") === ref
                      ? "red"
                      : test?.black.replace("/c", "") === ref
                        ? "black"
                        : null;
                  return (
                    <button
                      key={cavity.number}
                      type="button"
                      className={`min-h-16 border px-1 text-center leading-tight ${probe ? "border-4 border-next" : "border-ink/60"} bg-raised`}
                      onClick={() => {
                        onPoint(ref);
                        onClose();
                      }}
                      aria-label={`Cavity ${cavity.number}, ${cavity.colour}, ${cavity.behind}${probe ? `, ${probe} probe here` : ""}`}
                    >
                      <span className="figure block text-2xl">{cavity.number}</span>
                      <span className="block text-[13px]">{cavity.colour}</span>
                      <span className="block text-[13px] text-soft">{cavity.behind}</span>
                      {probe && <span className="block text-[13px] font-[700] text-next">{probe} probe</span>}
                    </button>
                  );
                })}
              </div>
              <div className="mt-3 flex gap-2">
                <Button onClick={() => setMating(!mating)}>
                  {mating ? "See it from the wire side" : "See the open face"}
                </Button>
                <Button kind="quiet" onClick={onClose}>
                  Close
                </Button>
              </div>
            </>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
