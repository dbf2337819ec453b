import { useId } from "react";
import type { Problem } from "../api/client";

/** A labelled line or area of text that shows what the server found wrong with it. */
export function TextField(props: {
  name: string;
  label: string;
  path?: string;
  problem?: Problem | null;
  area?: boolean;
  rows?: number;
  required?: boolean;
  autoFocus?: boolean;
  placeholder?: string;
  defaultValue?: string;
  type?: string;
  autoComplete?: string;
  inputMode?: "numeric" | "decimal";
  hint?: string;
  onBlur?: (event: React.FocusEvent<HTMLInputElement | HTMLTextAreaElement>) => void;
  onChange?: (event: React.ChangeEvent<HTMLInputElement | HTMLTextAreaElement>) => void;
}) {
  const id = useId();
  const { name, label, path, problem, area, hint, rows, ...rest } = props;
  const found = problem?.errors?.find((item) => item.field === (path ?? name));
  const look = "mt-1 block w-full rounded-sm border border-ink/60 bg-raised px-3 text-base text-ink";
  const shared = {
    id,
    name,
    "aria-invalid": found !== undefined,
    "aria-describedby": found ? `${id}-why` : hint ? `${id}-hint` : undefined,
    ...rest,
  };
  return (
    <div>
      <label htmlFor={id} className="text-sm text-soft">
        {label}
      </label>
      {area ? (
        <textarea rows={rows ?? 3} className={`${look} py-2`} {...shared} />
      ) : (
        <input className={`${look} min-h-11`} {...shared} />
      )}
      {hint && !found && (
        <p id={`${id}-hint`} className="mt-1 text-sm text-soft">
          {hint}
        </p>
      )}
      {found && (
        <p id={`${id}-why`} className="mt-1 text-sm font-[600]">
          {found.message}
        </p>
      )}
    </div>
  );
}
