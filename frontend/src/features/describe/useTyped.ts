import { type ChangeEvent, useState } from "react";

/** Text that is kept as it is typed while what it means is passed on; once the field is left it shows what was understood. */
export function useTyped(meant: string, onMeant: (text: string) => void) {
  const [typed, setTyped] = useState<string | null>(null);
  return {
    value: typed ?? meant,
    onChange: (event: ChangeEvent<HTMLInputElement | HTMLTextAreaElement>) => {
      setTyped(event.target.value);
      onMeant(event.target.value);
    },
    onBlur: () => setTyped(null),
  };
}
