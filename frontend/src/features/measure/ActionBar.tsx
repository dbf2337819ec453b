import { Button } from "../../ui/Button";
import { keySign } from "./hotkeys/commands";

/** What can be done besides recording, each with its key. */
export function ActionBar(props: {
  own: boolean;
  changing: boolean;
  canVoid: boolean;
  canConclude: boolean;
  onCancel: () => void;
  onLater: () => void;
  onCannotReach: () => void;
  onChange: () => void;
  onVoid: () => void;
  onCalculators: () => void;
  onConclude: () => void;
  onKeys: () => void;
}) {
  const actions = [
    props.own
      ? { title: `Back (${keySign("cancel")})`, act: props.onCancel }
      : { title: `Later (${keySign("later")})`, act: props.onLater },
    { title: `Cannot reach (${keySign("cannotReach")})`, act: props.onCannotReach },
    { title: `Change (${keySign("change")})`, act: props.onChange, expanded: props.changing },
    ...(props.canVoid ? [{ title: `Void (${keySign("voidReading")})`, act: props.onVoid }] : []),
    { title: `Calculators (${keySign("calculators")})`, act: props.onCalculators },
    ...(props.canConclude ? [{ title: `Conclude now (${keySign("conclude")})`, act: props.onConclude }] : []),
    { title: `Keys (${keySign("help")})`, act: props.onKeys },
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
