import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { ApiError, api, unwrap } from "../../api/client";
import { circuitQuery, jobQuery } from "../../api/queries";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";
import type { Channel, Opened } from "./calls";

const FIELD = "mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-ink";

interface Meaning {
  diagnosis: string;
  instrument: string;
  red: string;
  black: string;
  /** Where the controls stood that no lane is. */
  controls: Record<string, string>;
}

/** Ties a channel to a test of a circuit, and lanes to its controls, so that a level of it can count as a reading. */
export function MeaningDialog(props: {
  opened: Opened;
  channel: Channel;
  open: boolean;
  onClose: () => void;
}) {
  const { opened, channel } = props;
  const client = useQueryClient();
  const job = useQuery(jobQuery(opened.recording.job_id)).data;
  const [said, setSaid] = useState<Meaning>({
    diagnosis: "",
    instrument: "voltmeter",
    red: "",
    black: "",
    controls: {},
  });
  const [lanes, setLanes] = useState<Record<string, { control: string; positions: Record<string, string> }>>(
    {},
  );
  const diagnoses = job?.diagnoses ?? [];
  const diagnosis = diagnoses.find((one) => one.id === said.diagnosis);
  const circuit = useQuery(circuitQuery(diagnosis?.circuit_version_id)).data;
  // biome-ignore lint/correctness/useExhaustiveDependencies: begun anew when it is opened
  useEffect(() => {
    if (!props.open) return;
    const tie = channel.tie as Partial<Record<string, string>> | null;
    setSaid({
      diagnosis: tie?.diagnosis_id ?? diagnoses[0]?.id ?? "",
      instrument: tie?.instrument ?? "voltmeter",
      red: tie?.red ?? "",
      black: tie?.black ?? "",
      controls: ((channel.tie as Record<string, unknown> | null)?.controls ?? {}) as Record<string, string>,
    });
    setLanes(
      Object.fromEntries(
        opened.lanes.map((lane) => [
          lane.name,
          (lane.tie ?? { control: "", positions: {} }) as {
            control: string;
            positions: Record<string, string>;
          },
        ]),
      ),
    );
  }, [props.open, diagnoses.length]);
  const instruments = (circuit?.instruments ?? []).filter((one) => one.figures);
  const instrument = instruments.find((one) => one.id === said.instrument);
  const reds: { ref: string; title: string }[] =
    instrument && !instrument.probes
      ? (circuit?.targets ?? []).filter((one) => one.instrument === said.instrument)
      : (circuit?.points ?? []);
  const others = (circuit?.controls ?? []).filter(
    (control) => !Object.values(lanes).some((lane) => lane.control === control.id),
  );
  // Whatever a module tells, it tells with the key on.
  const stood = (control: { id: string; values: string[] }) =>
    said.controls[control.id] ?? (control.id === "key" ? "on" : (control.values[0] ?? ""));
  const keep = useMutation({
    mutationFn: async () => {
      const path = { params: { path: { recording_id: opened.recording.id } } };
      let answer = unwrap(
        await api.PUT("/api/v1/recordings/{recording_id}/channel-meaning", {
          ...path,
          body: {
            name: channel.name,
            diagnosis_id: said.diagnosis,
            instrument: said.instrument,
            red: said.red,
            black: said.black || (circuit?.black_reference ?? said.red),
            controls: Object.fromEntries(others.map((one) => [one.id, stood(one)])),
          },
        }),
      );
      for (const [name, lane] of Object.entries(lanes)) {
        if (!lane.control) continue;
        answer = unwrap(
          await api.PUT("/api/v1/recordings/{recording_id}/lane-meaning", {
            ...path,
            body: { name, ...lane },
          }),
        );
      }
      return answer;
    },
    onSuccess: (answer) => {
      client.setQueryData(["recording", opened.recording.id], answer);
      props.onClose();
    },
  });
  return (
    <Dialog.Root open={props.open} onOpenChange={(open) => !open && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-[6%] left-1/2 flex max-h-[88%] w-[min(44rem,96vw)] -translate-x-1/2 flex-col rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">What “{channel.name}” measures</Dialog.Title>
          <Dialog.Description className="mb-3 text-soft">
            With which instrument, and between which points of which circuit. Then a level of it, or how it
            follows a command, counts like a reading taken by hand.
          </Dialog.Description>
          {keep.error && (
            <Notice tone="problem">
              {keep.error instanceof ApiError ? keep.error.problem.detail : "The server does not answer."}
            </Notice>
          )}
          {job && diagnoses.length === 0 && (
            <Notice tone="note">
              No circuit of this job is being tested yet: open one on the job&apos;s page, then come back.
            </Notice>
          )}
          <div className="min-h-0 flex-1 overflow-auto">
            <div className="grid gap-3 text-sm text-soft sm:grid-cols-2">
              <label>
                Circuit
                <select
                  className={FIELD}
                  value={said.diagnosis}
                  onChange={(event) =>
                    setSaid({ ...said, diagnosis: event.target.value, red: "", black: "" })
                  }
                >
                  {diagnoses.map((one) => (
                    <option key={one.id} value={one.id}>
                      {one.title}
                    </option>
                  ))}
                </select>
              </label>
              <label>
                Instrument
                <select
                  className={FIELD}
                  value={said.instrument}
                  onChange={(event) => setSaid({ ...said, instrument: event.target.value, red: "" })}
                >
                  {instruments.map((one) => (
                    <option key={one.id} value={one.id}>
                      {one.title}
                    </option>
                  ))}
                </select>
              </label>
              <label>
                {instrument?.probes === false ? "What it looks at" : "Red lead"}
                <select
                  className={FIELD}
                  value={said.red}
                  onChange={(event) => setSaid({ ...said, red: event.target.value })}
                >
                  <option value="">choose</option>
                  {reds.map((one) => (
                    <option key={one.ref} value={one.ref}>
                      {one.ref}, {one.title}
                    </option>
                  ))}
                </select>
              </label>
              {instrument?.probes !== false && (
                <label>
                  Black lead
                  <select
                    className={FIELD}
                    value={said.black}
                    onChange={(event) => setSaid({ ...said, black: event.target.value })}
                  >
                    <option value="">battery negative</option>
                    {(circuit?.points ?? []).map((one) => (
                      <option key={one.ref} value={one.ref}>
                        {one.ref}, {one.title}
                      </option>
                    ))}
                  </select>
                </label>
              )}
            </div>
            {others.length > 0 && circuit && (
              <fieldset className="mt-4 border-t border-rule pt-2 text-sm text-soft">
                <legend className="sr-only">Meanwhile</legend>
                <p>Meanwhile, for as long as it was recorded</p>
                <div className="grid grid-cols-2 gap-2 sm:grid-cols-3">
                  {others.map((control) => (
                    <label key={control.id}>
                      {control.title} stood at
                      <select
                        className={FIELD}
                        value={stood(control)}
                        onChange={(event) =>
                          setSaid({
                            ...said,
                            controls: { ...said.controls, [control.id]: event.target.value },
                          })
                        }
                      >
                        {control.values.map((value) => (
                          <option key={value}>{value}</option>
                        ))}
                      </select>
                    </label>
                  ))}
                </div>
              </fieldset>
            )}
            {opened.lanes.map((lane) => {
              const tie = lanes[lane.name] ?? { control: "", positions: {} };
              const control = circuit?.controls.find((one) => one.id === tie.control);
              const words = [...new Set(lane.changes.map((change) => change.position))].slice(0, 12);
              const set = (next: typeof tie) => setLanes({ ...lanes, [lane.name]: next });
              return (
                <fieldset key={lane.name} className="mt-4 border-t border-rule pt-2 text-sm text-soft">
                  <label className="block">
                    “{lane.name}” is the control
                    <select
                      className={FIELD}
                      value={tie.control}
                      onChange={(event) => set({ control: event.target.value, positions: {} })}
                    >
                      <option value="">none of this circuit</option>
                      {circuit?.controls.map((one) => (
                        <option key={one.id} value={one.id}>
                          {one.title}
                        </option>
                      ))}
                    </select>
                  </label>
                  {control && (
                    <div className="mt-2 grid grid-cols-2 gap-2 sm:grid-cols-3">
                      {words.map((word) => (
                        <label key={word}>
                          {word || "(empty)"} is
                          <select
                            className={FIELD}
                            value={tie.positions[word] ?? ""}
                            onChange={(event) =>
                              set({ ...tie, positions: { ...tie.positions, [word]: event.target.value } })
                            }
                          >
                            <option value="">not said</option>
                            {control.values.map((value) => (
                              <option key={value}>{value}</option>
                            ))}
                          </select>
                        </label>
                      ))}
                    </div>
                  )}
                </fieldset>
              );
            })}
          </div>
          <div className="mt-4 flex justify-end gap-2">
            <Button kind="quiet" onClick={props.onClose}>
              Cancel
            </Button>
            <Button onClick={() => keep.mutate()} disabled={!said.diagnosis || !said.red || keep.isPending}>
              Keep
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
