import { Button } from "../../ui/Button";
import { COMMANDS, type Command, keySign } from "./hotkeys/commands";

/** What can be done besides recording, each with its key. */
export function ActionBar(props: {
  /** Words of the instrument in hand: a key that begins one needs Alt. */
  words: string[];
  own: boolean;
  changing: boolean;
  canVoid: boolean;
  canConclude: boolean;
  onCancel: () => void;
  onLater: () => void;
  onCannotReach: () => void;
  /** Null where nothing has to come apart. */
  onSeized: (() => void) | null;
  onChange: () => void;
  onVoid: () => void;
  onCalculators: () => void;
  onConclude: () => void;
  onKeys: () => void;
}) {
  const sign = (command: Command): string =>
    props.words.some((word) => word.startsWith(COMMANDS[command].key))
      ? `Alt ${keySign(command)}`
      : keySign(command);
  const actions = [
    props.own
      ? { title: `Back (${sign("cancel")})`, act: props.onCancel }
      : { title: `Later (${sign("later")})`, act: props.onLater },
    { title: `Cannot reach (${sign("cannotReach")})`, act: props.onCannotReach },
    ...(props.onSeized ? [{ title: "Seized", act: props.onSeized }] : []),
    { title: `Change (${sign("change")})`, act: props.onChange, expanded: props.changing },
    ...(props.canVoid ? [{ title: `Void (${sign("voidReading")})`, act: props.onVoid }] : []),
    { title: `Calculators (${sign("calculators")})`, act: props.onCalculators },
    ...(props.canConclude ? [{ title: `Conclude now (${sign("conclude")})`, act: props.onConclude }] : []),
    { title: `Keys (${sign("help")})`, act: props.onKeys },
  ];
  return (
    <div className="-my-2 flex flex-wrap items-center gap-x-3.5 text-sm">
      {actions.map(({ title, act, ...more }) => (
        <Button
          key={title}
          kind="quiet"
          className="px-0"
          onClick={act}
          aria-expanded={"expanded" in more ? more.expanded : undefined}
        >
          {title}
        </Button>
      ))}
    </div>
  );
}
