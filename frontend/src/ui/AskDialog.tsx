import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { Button } from "./Button";

/** Asks for one line of text; Enter accepts, Esc leaves. */
export function AskDialog(props: {
  open: boolean;
  title: string;
  children: ReactNode;
  choices: string[];
  accept: string;
  onClose: () => void;
  onAccept: (text: string) => void;
}) {
  const [text, setText] = useState("");
  const submit = (value: string) => {
    if (!value.trim()) return;
    props.onAccept(value.trim());
    setText("");
  };
  return (
    <Dialog.Root open={props.open} onOpenChange={(open) => !open && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed z-20 top-1/4 left-1/2 w-[min(34rem,92vw)] -translate-x-1/2 rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="mb-1 text-xl">{props.title}</Dialog.Title>
          <Dialog.Description className="mb-3 text-soft">{props.children}</Dialog.Description>
          <form
            onSubmit={(event) => {
              event.preventDefault();
              submit(text);
            }}
          >
            <div className="mb-3 flex flex-wrap gap-2">
              {props.choices.map((choice) => (
                <Button key={choice} onClick={() => submit(choice)}>
                  {choice}
                </Button>
              ))}
            </div>
            <label className="block text-sm text-soft">
              In your own words
              <input
                value={text}
                onChange={(event) => setText(event.target.value)}
                className="mt-1 block min-h-11 w-full border border-ink/60 bg-raised px-3 text-ink"
              />
            </label>
            <div className="mt-4 flex justify-end gap-2">
              <Button kind="quiet" onClick={props.onClose}>
                Cancel
              </Button>
              <Button type="submit">{props.accept}</Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
