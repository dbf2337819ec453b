import { Dialog } from "radix-ui";
import { createRoot } from "react-dom/client";

createRoot(document.getElementById("root") as HTMLElement).render(
  <Dialog.Root>
    <Dialog.Trigger id="there">Open</Dialog.Trigger>
    <Dialog.Portal>
      <Dialog.Content>
        <Dialog.Title>Nothing</Dialog.Title>
      </Dialog.Content>
    </Dialog.Portal>
  </Dialog.Root>,
);
