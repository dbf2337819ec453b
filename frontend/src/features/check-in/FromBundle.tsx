import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { useNavigate } from "react-router";
import { ApiError, api, unwrap } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

/** A job that another workshop has begun, from the file that it gave along. */
export function FromBundle() {
  const chooser = useRef<HTMLInputElement>(null);
  const navigate = useNavigate();
  const client = useQueryClient();
  const read = useMutation({
    mutationFn: async (file: File) => {
      const form = new FormData();
      form.append("bundle", file);
      return unwrap(
        await api.POST("/api/v1/bundles", {
          body: form as unknown as { bundle: string },
          bodySerializer: (body) => body as unknown as FormData,
        }),
      );
    },
    onSuccess: (job) => {
      client.invalidateQueries({ queryKey: ["jobs"] });
      navigate(`/jobs/${job.id}`);
    },
  });
  return (
    <section aria-label="From another workshop" className="mt-6 border-t border-rule pt-3">
      <p className="flex flex-wrap items-center gap-x-4">
        <span className="text-soft">
          Another workshop has begun on this vehicle and gave you its job bundle?
        </span>
        <Button disabled={read.isPending} onClick={() => chooser.current?.click()}>
          {read.isPending ? "Reading the bundle …" : "Read the bundle"}
        </Button>
      </p>
      <input
        ref={chooser}
        type="file"
        accept=".zip,application/zip"
        aria-label="Job bundle"
        className="sr-only"
        tabIndex={-1}
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) read.mutate(file);
          event.target.value = "";
        }}
      />
      {read.error && (
        <Notice tone="problem">
          {read.error instanceof ApiError
            ? read.error.problem.detail
            : "The server does not answer. Try again."}
        </Notice>
      )}
    </section>
  );
}
