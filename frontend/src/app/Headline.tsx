import { type ReactNode, useEffect, useState } from "react";
import { createPortal } from "react-dom";

/** Puts a screen's own line into the frame's header. */
export function Headline({ children }: { children: ReactNode }) {
  const [target, setTarget] = useState<HTMLElement | null>(null);
  useEffect(() => setTarget(document.getElementById("headline")), []);
  return target ? createPortal(children, target) : null;
}
