import type { ButtonHTMLAttributes } from "react";

type Kind = "next" | "plain" | "quiet";

const LOOK: Record<Kind, string> = {
  next: "px-4 bg-next text-on-next font-[650]",
  plain: "px-4 border border-ink/60 bg-raised",
  quiet: "text-soft underline underline-offset-4",
};

/** A button of workshop size. `next` is the one magenta thing on a screen. */
export function Button({
  kind = "plain",
  className = "",
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: Kind }) {
  return (
    <button
      type="button"
      className={`min-h-11 rounded-sm disabled:opacity-50 ${LOOK[kind]} ${className}`}
      {...rest}
    />
  );
}
