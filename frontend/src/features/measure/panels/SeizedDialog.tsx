import { Dialog } from "radix-ui";
import { useState } from "react";
import type { Circuit, TestIn } from "../../../api/client";
import { Button } from "../../../ui/Button";
import { Notice } from "../../../ui/Notice";
import { Picks } from "../../../ui/Picks";
import { TextField } from "../../../ui/TextField";

interface Place {
  key: string;
  title: string;
}

export interface SeizedPlace {
  name: string;
  minutes: number;
  price: number;
}

/** What a test needs apart or in the hand and does not have yet: connectors to be disconnected, then the places of its probes. */
export function placesOf(circuit: Circuit, test: TestIn, apart: string[]): Place[] {
  const points = new Map(circuit.points.map((point) => [point.ref, point.place]));
  const probes = circuit.instruments.find((one) => one.id === test.instrument)?.probes;
  const places = (probes ? [test.red, test.black] : []).map(
    (ref) => points.get(ref) ?? ref.split(".")[0] ?? ref,
  );
  const titles = new Map(circuit.connectors.map((one) => [one.id, `${one.id} ${one.title}`.trim()]));
  return [...new Set([...(test.setup.unplugged ?? []), ...places])]
    .filter((one) => one !== "body" && one !== points.get(circuit.black_reference) && !apart.includes(one))
    .map((one) => ({ key: one, title: titles.get(one) ?? one }));
}

function figure(text: string): number | null {
  const value = Number(text.trim().replace(",", "."));
  return text.trim() === "" || !Number.isFinite(value) || value < 0 ? null : value;
}

/** Something does not come apart: it stays in the plan, with what force costs, so that it is done only where it pays. */
export function SeizedDialog(props: {
  places: Place[];
  currency: string;
  error: Error | null;
  waiting: boolean;
  onClose: () => void;
  onKeep: (place: SeizedPlace) => void;
}) {
  const { places, currency, error, waiting } = props;
  const [name, setName] = useState(places[0]?.key ?? "");
  const [minutes, setMinutes] = useState("30");
  const [price, setPrice] = useState("0");
  const [min, cost] = [figure(minutes), figure(price)];
  return (
    <Dialog.Root open onOpenChange={(now) => !now && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[12%] left-1/2 max-h-[84%] w-[min(30rem,96vw)] -translate-x-1/2 overflow-auto rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">Seized: it comes apart only by force</Dialog.Title>
          <Dialog.Description className="mb-3 text-sm text-soft">
            It stays in the plan. Tests that need it count this time and money, and are proposed only where
            they are still worth it. If the job can do without it, use “Cannot reach” instead.
          </Dialog.Description>
          <form
            className="space-y-3"
            onSubmit={(event) => {
              event.preventDefault();
              if (min !== null && cost !== null) props.onKeep({ name, minutes: min, price: cost });
            }}
          >
            <div>
              <span className="text-sm text-soft">What does not come apart?</span>
              <Picks
                label="What does not come apart?"
                single
                options={places}
                chosen={[name]}
                onChange={([chosen]) => chosen && setName(chosen)}
              />
            </div>
            <div className="grid grid-cols-2 gap-3">
              <TextField
                label="Minutes until it is apart"
                inputMode="decimal"
                value={minutes}
                maxLength={8}
                problem={min === null ? "a number of minutes, 0 or more" : undefined}
                onChange={(event) => setMinutes(event.target.value)}
              />
              <TextField
                label={`What is destroyed, ${currency}`}
                inputMode="decimal"
                value={price}
                maxLength={12}
                problem={cost === null ? "a price, 0 for nothing" : undefined}
                onChange={(event) => setPrice(event.target.value)}
              />
            </div>
            <p className="text-sm">
              Agree the extra work with the customer first. Heat, cutting and penetrating oil only away from
              fuel, lines and wiring, with eye protection; follow the manufacturer's instructions.
            </p>
            {error && <Notice tone="problem">{error.message}</Notice>}
            <div className="flex flex-wrap items-center justify-end gap-3">
              <Button kind="quiet" onClick={props.onClose}>
                Cancel
              </Button>
              <Button kind="next" type="submit" disabled={!name || min === null || cost === null || waiting}>
                Count it from now on
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
