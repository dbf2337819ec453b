/** Quick picks: pressed ones are filled and carry a tick, so that they read in grey as well. */
export function Picks(props: {
  label: string;
  options: { key: string; title: string }[];
  chosen: string[];
  onChange: (chosen: string[]) => void;
  single?: boolean;
  disabled?: boolean;
}) {
  const toggle = (key: string) => {
    const has = props.chosen.includes(key);
    if (props.single) props.onChange(has ? [] : [key]);
    else props.onChange(has ? props.chosen.filter((item) => item !== key) : [...props.chosen, key]);
  };
  return (
    <fieldset className="flex flex-wrap gap-1.5" aria-label={props.label} disabled={props.disabled}>
      {props.options.map((option) => {
        const on = props.chosen.includes(option.key);
        return (
          <button
            key={option.key}
            type="button"
            aria-pressed={on}
            onClick={() => toggle(option.key)}
            className={`min-h-11 rounded-sm border px-3 text-sm ${on ? "border-ink bg-depth-2 font-[650]" : "border-rule bg-raised"}`}
          >
            {on ? "✓ " : ""}
            {option.title}
          </button>
        );
      })}
    </fieldset>
  );
}
