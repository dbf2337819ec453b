import { zodResolver } from "@hookform/resolvers/zod";
import { type UseMutationResult, useMutation } from "@tanstack/react-query";
import { type DefaultValues, type FieldValues, type Path, useForm } from "react-hook-form";
import { z } from "zod";
import { ApiError } from "../api/client";

// Generated validators need eval, which the page's security policy forbids.
z.config({ jitless: true });

/** Text that must be there. */
export const required = (what: string) => z.string().trim().min(1, `${what} is missing`);

/** A number with a decimal point or comma. */
export const decimal = z
  .string()
  .trim()
  .transform((text) => Number(text.replace(",", ".")))
  .refine((value) => Number.isFinite(value), "A number is expected, e.g. 12.4");

/** A number, or nothing. */
export const optionalDecimal = z
  .string()
  .trim()
  .transform((text) => (text === "" ? null : Number(text.replace(",", ".").replace(/\s/g, ""))))
  .refine((value) => value === null || Number.isFinite(value), "A number is expected, e.g. 12.4");

/**
 * A form that is checked here and sent to the server: what either finds wrong stands at its field.
 * `paths` gives the server's name of a field where it differs from the form's.
 */
export function useServerForm<In extends FieldValues, Out, Answer>(options: {
  schema: z.ZodType<Out, In>;
  defaults: DefaultValues<In>;
  send: (values: Out) => Promise<Answer>;
  onDone: (answer: Answer, reset: () => void) => void;
  paths?: Partial<Record<Path<In>, string>>;
}) {
  const form = useForm<In, unknown, Out>({
    resolver: zodResolver(options.schema),
    defaultValues: options.defaults,
  });
  const sending: UseMutationResult<Answer, Error, Out> = useMutation({
    mutationFn: options.send,
    onSuccess: (answer) => options.onDone(answer, () => form.reset()),
    onError: (error) => {
      if (!(error instanceof ApiError)) return;
      for (const found of error.problem.errors ?? []) {
        const name = nameOf(found.field);
        if (name) form.setError(name, { message: found.message });
      }
    },
  });
  const nameOf = (field: string): Path<In> | undefined => {
    const names = Object.keys(form.getValues()) as Path<In>[];
    return names.find((name) => (options.paths?.[name] ?? name) === field);
  };
  const problem = sending.error instanceof ApiError ? sending.error.problem : null;
  const shown = problem?.errors?.length && problem.errors.every((found) => nameOf(found.field));
  return {
    form,
    sending,
    /** Everything a field needs: its name, its listeners and what is wrong with it. */
    field: (name: Path<In>) => ({
      ...form.register(name),
      problem: form.formState.errors[name]?.message as string | undefined,
    }),
    submit: form.handleSubmit((values) => sending.mutate(values)),
    /** What went wrong and belongs to no field. */
    trouble: sending.error && !shown ? (problem?.detail ?? "The server does not answer. Try again.") : null,
  };
}
