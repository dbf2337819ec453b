import { Dialog } from "radix-ui";
import { COMMANDS, type Command, keySign } from "./commands";

/** The keys of the measuring screen. */
export function HotkeysDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={(now) => !now && onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content
          className="fixed z-20 top-[8%] left-1/2 max-h-[84vh] w-[min(30rem,94vw)] -translate-x-1/2 overflow-auto rounded-sm bg-paper p-5 shadow-xl"
          aria-describedby={undefined}
        >
          <div className="mb-2 flex items-baseline justify-between">
            <Dialog.Title className="text-xl">Keys</Dialog.Title>
            <Dialog.Close className="min-h-11 px-2 underline underline-offset-4">Close (Esc)</Dialog.Close>
          </div>
          <dl className="border-t border-rule">
            {(Object.keys(COMMANDS) as Command[]).map((command) => (
              <div key={command} className="grid grid-cols-[5rem_1fr] border-b border-rule py-1.5">
                <dt className="figure">{keySign(command)}</dt>
                <dd>{COMMANDS[command].title}</dd>
              </div>
            ))}
          </dl>
          <p className="mt-3 text-sm text-soft">
            Any other character goes into the entry. While an instrument with words is in hand, hold Alt for a
            key that begins one of them. On the drawing, the arrow keys move between points and Space places
            the probe.
          </p>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
