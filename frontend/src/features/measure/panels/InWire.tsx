import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ApiError, api, type Schema, unwrap } from "../../../api/client";
import { measuringQuery } from "../../../api/queries";
import { sendOnce } from "../../../lib/keys";
import { Button } from "../../../ui/Button";
import { Notice } from "../../../ui/Notice";
import { Picks } from "../../../ui/Picks";
import { TextField } from "../../../ui/TextField";

const KINDS = [
  { key: "connector", title: "a connector" },
  { key: "fuse", title: "a fuse" },
  { key: "joint", title: "a joint" },
];
type Wanted = Required<Omit<Schema["InsertionIn"], "client_key" | "rating_a">> & { rating_a: string };
const NOTHING: Wanted = {
  wire: "",
  what: "connector",
  name: "",
  title: "",
  place: "",
  cavity: "",
  rating_a: "",
};

/** Something that sits in a wire of the vehicle and is not on the drawing. */
export function InWire(props: { diagnosisId: string; wires: Schema["KnownView"][]; onDone: () => void }) {
  const { diagnosisId, wires, onDone } = props;
  const client = useQueryClient();
  const [wanted, setWanted] = useState(NOTHING);
  const set = (change: Partial<Wanted>) => setWanted((now) => ({ ...now, ...change }));
  const put = useMutation({
    mutationFn: () =>
      sendOnce(["insert", diagnosisId, wanted], async (client_key) =>
        unwrap(
          await api.POST("/api/v1/diagnoses/{diagnosis_id}/insertions", {
            params: { path: { diagnosis_id: diagnosisId } },
            body: {
              ...wanted,
              client_key,
              rating_a: Number(wanted.rating_a.replace(",", ".")) || null,
            },
          }),
        ),
      ),
    onSuccess: (answer) => {
      client.setQueryData(measuringQuery(diagnosisId).queryKey, answer);
      client.removeQueries({ queryKey: ["known", diagnosisId] });
      client.invalidateQueries({ queryKey: ["timeline"], refetchType: "none" });
      onDone();
    },
  });
  const problems = put.error instanceof ApiError ? (put.error.problem.errors ?? []) : [];
  const problem = (field: string) => problems.find((one) => one.field === field)?.message;
  const text = (field: "name" | "title" | "place" | "cavity" | "rating_a", label: string, hint = "") => (
    <TextField
      label={label}
      value={wanted[field]}
      placeholder={hint}
      problem={problem(field)}
      maxLength={field === "title" || field === "place" ? 80 : 12}
      onChange={(event) => set({ [field]: event.target.value })}
    />
  );
  if (wires.length === 0) return null;
  return (
    <section aria-label="In a wire" className="mb-4">
      <h3 className="mb-1 text-base font-[650]">Something in a wire that the drawing does not have</h3>
      <div className="grid items-end gap-x-6 gap-y-2 sm:grid-cols-2">
        <label className="block text-sm text-soft">
          Wire
          <select
            className="mt-1 block min-h-11 w-full rounded-sm border border-ink/60 bg-raised px-2 text-base text-ink"
            value={wanted.wire}
            onChange={(event) => set({ wire: event.target.value })}
          >
            <option value="">which wire …</option>
            {wires.map((wire) => (
              <option key={wire.id} value={wire.id}>
                {wire.of}
              </option>
            ))}
          </select>
        </label>
        <Picks
          label="What is in it"
          single
          options={KINDS}
          chosen={[wanted.what]}
          onChange={([what]) => what && set({ what: what as Wanted["what"] })}
        />
        {wanted.wire !== "" && (
          <>
            {text(
              "name",
              "Designation",
              wanted.what === "fuse" ? "F12" : wanted.what === "joint" ? "SP7" : "X90",
            )}
            {wanted.what === "connector" && text("cavity", "Cavity of this wire", "3")}
            {wanted.what === "fuse" && text("rating_a", "Rating, A", "10")}
            {text("title", "Name", wanted.what === "connector" ? "boot connector" : "")}
            {text("place", "Place")}
          </>
        )}
      </div>
      {put.error && problems.length === 0 && <Notice tone="problem">{put.error.message}</Notice>}
      {wanted.wire !== "" && (
        <Button className="mt-2" disabled={put.isPending} onClick={() => put.mutate()}>
          {put.isPending ? "Putting it in …" : "Put it into the drawing"}
        </Button>
      )}
    </section>
  );
}
