/** A probability as people say it: never a false 100 % or 0 %. */
export function percent(share: number): string {
  if (share > 0.995) return "over\u00a099\u00a0%";
  if (share < 0.005) return "under\u00a01\u00a0%";
  return `${Math.round(share * 100)}\u00a0%`;
}

/** Minutes at workshop precision. */
export function minutes(value: number): string {
  return value < 1 ? `${Math.round(value * 60)} s` : `${value.toFixed(value < 10 ? 1 : 0)} min`;
}

const GROUPS: Record<string, string> = {
  wiring: "Wiring",
  module: "Module",
  component: "Component",
  system: "System",
  setting: "Setting",
  none: "No fault",
  unknown: "Not on drawing",
};

/** A group's name. */
export function groupName(group: string): string {
  return GROUPS[group] ?? group;
}

/** Depth tint for a share of belief, as a CSS variable. */
export function depthTint(share: number): string {
  const step = share > 0.6 ? 5 : share > 0.3 ? 4 : share > 0.12 ? 3 : share > 0.03 ? 2 : 1;
  return `var(--depth-${step})`;
}

/** Day and time, short. */
export function when(iso: string): string {
  return new Date(iso).toLocaleString("en-GB", {
    day: "numeric",
    month: "short",
    hour: "2-digit",
    minute: "2-digit",
  });
}

/** Time of day of a moment in ms since 1970. */
export function clock(moment: number): string {
  return new Date(moment).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
}

/** A unit as the drawing writes it. */
export function shortName(unit: string): string {
  if (unit.endsWith("@system")) return `${unit.replace("@system", "")} (system)`;
  return unit === "none" ? "no fault" : unit === "unknown" ? "not on the drawing" : unit;
}
