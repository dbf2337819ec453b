import { type ComponentProps, useId } from "react";

type Native = Omit<ComponentProps<"input"> & ComponentProps<"textarea">, "ref">;

interface Props extends Native {
  label: string;
  ref?: React.Ref<HTMLInputElement & HTMLTextAreaElement>;
  /** What is wrong with it. */
  problem?: string | undefined;
  area?: boolean;
  hint?: string;
}

/** A labelled line or area of text that shows what is wrong with it. */
export function TextField({ label, problem, area, hint, rows, ref, ...rest }: Props) {
  const id = useId();
  const look = "mt-1 block w-full rounded-sm border border-ink/60 bg-raised px-3 text-base text-ink";
  const shared = {
    id,
    "aria-invalid": problem !== undefined,
    "aria-describedby": problem ? `${id}-why` : hint ? `${id}-hint` : undefined,
    ...rest,
  };
  return (
    <div>
      <label htmlFor={id} className="text-sm text-soft">
        {label}
      </label>
      {area ? (
        <textarea ref={ref} rows={rows ?? 3} className={`${look} py-2`} {...shared} />
      ) : (
        <input ref={ref} className={`${look} min-h-11`} {...shared} />
      )}
      {hint && !problem && (
        <p id={`${id}-hint`} className="mt-1 text-sm text-soft">
          {hint}
        </p>
      )}
      {problem && (
        <p id={`${id}-why`} className="mt-1 text-sm font-[600]">
          {problem}
        </p>
      )}
    </div>
  );
}
