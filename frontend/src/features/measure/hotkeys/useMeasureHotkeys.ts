import { type RefObject, useEffect, useRef } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { COMMANDS, type Command } from "./commands";

interface Options {
  input: RefObject<HTMLInputElement | null>;
  /** A dialog is open: keys belong to it. */
  blocked: boolean;
  /** Words of the instrument in hand; a letter that begins one is typed, unless Alt is held. */
  words: string[];
  run: Record<Command, () => void>;
}

const LETTERS = Object.values(COMMANDS)
  .map((command) => command.key)
  .filter((key) => key.length === 1 && key !== "?");

/** Commands by key from anywhere on the screen while nothing is typed; every other character goes into the entry. */
export function useMeasureHotkeys(options: Options): void {
  const held = useRef(options);
  held.current = options;

  const ignored = (event: KeyboardEvent) => {
    const { input, blocked, words } = held.current;
    const target = event.target as HTMLElement;
    const inEntry = target === input.current;
    if (event.defaultPrevented || blocked) return true;
    if (!inEntry && /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)) return true;
    if (event.key === "Escape") return false;
    if (input.current?.value) return true;
    // Inside a group of choices the arrows belong to the group.
    if (event.key.startsWith("Arrow") && ["radio", "tab"].includes(target.getAttribute("role") ?? ""))
      return true;
    const plain = !event.altKey && !event.ctrlKey && !event.metaKey && event.key.length === 1;
    return plain && words.some((word) => word.startsWith(event.key));
  };
  const shared = { enableOnFormTags: true as const, preventDefault: true, ignoreEventWhen: ignored };
  const byKey = new Map<string, Command>(
    (Object.keys(COMMANDS) as Command[]).map((command) => [COMMANDS[command].key, command]),
  );
  const run = (_: KeyboardEvent, hotkey: { keys?: readonly string[] }) => {
    const command = byKey.get((hotkey.keys ?? []).join("+").replace("arrow", ""));
    if (command) held.current.run[command]();
  };
  // By the character, not by its place on the keyboard: Z is where the keyboard says it is.
  const withControl = (event: KeyboardEvent) => event.ctrlKey || event.metaKey || ignored(event);
  const byCharacter = { ...shared, useKey: true, ignoreModifiers: true, ignoreEventWhen: withControl };
  useHotkeys(LETTERS, run, byCharacter);
  useHotkeys("down,up,escape", run, shared);
  useHotkeys("mod+z", () => held.current.run.undo(), shared);
  useHotkeys("?", () => held.current.run.help(), byCharacter);

  useEffect(() => {
    const onKey = (event: KeyboardEvent) => {
      const { input, blocked } = held.current;
      const target = event.target as HTMLElement;
      if (event.defaultPrevented || blocked || event.ctrlKey || event.metaKey || event.altKey) return;
      if (/^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName) || event.key.length !== 1) return;
      const pressed = target.tagName === "BUTTON" || target.getAttribute("role") === "button";
      if (event.key === " " && pressed) return;
      input.current?.focus();
    };
    // After the commands above, which take their keys on the document.
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
}
