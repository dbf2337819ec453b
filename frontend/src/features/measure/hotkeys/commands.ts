/** Every key of the measuring screen with what it does; the list behind "?" is this one. */
export const COMMANDS = {
  meter: { key: "r", title: "Read the meter" },
  cannotReach: { key: "x", title: "The point cannot be reached: leave it out" },
  later: { key: "n", title: "Put this test off and see the next one" },
  change: { key: "s", title: "Change the test: instrument, probes, set-up" },
  voidReading: { key: "z", title: "Void the last reading, with a reason" },
  undo: { key: "mod+z", title: "Undo the last reading within a minute" },
  conclude: { key: "v", title: "Conclude" },
  calculators: { key: "a", title: "Calculators" },
  limits: { key: "l", title: "Limits, or back to the suspects" },
  face: { key: "f", title: "Connector face of the red probe's point" },
  fillIn: { key: "k", title: "What is known of this circuit: fill it in" },
  next: { key: "down", title: "Next good test" },
  previous: { key: "up", title: "Previous good test" },
  cancel: { key: "escape", title: "Clear the entry, back to the proposed test" },
  help: { key: "?", title: "This list of keys" },
} as const;

export type Command = keyof typeof COMMANDS;

const SIGNS: Record<string, string> = { down: "↓", up: "↑", escape: "Esc", "mod+z": "Ctrl Z" };

/** A key as it is printed on a keyboard. */
export function keySign(command: Command): string {
  const { key } = COMMANDS[command];
  return SIGNS[key] ?? key.toUpperCase();
}
