import { Picks } from "../../ui/Picks";
import { TextField } from "../../ui/TextField";
import { cavitiesOf, cavitiesText, NO_SUPPLY, type Sheet, type Template, tableOf, tableText } from "./sheet";
import { useTyped } from "./useTyped";

const SOURCES = [
  { key: "key", title: "with the key" },
  { key: "main relay", title: "by a main relay" },
  { key: "battery", title: "permanently" },
];

type Change = (of: string, make: (sheet: Sheet) => Sheet) => void;

/** What the sheet says beside the plug: fuse and relay, figures, positions of a coded switch, connectors on the way. */
export function SheetFields(props: {
  sheet: Sheet;
  template: Template;
  problems: Map<string, string>;
  onChange: Change;
}) {
  const { sheet, template, problems, onChange } = props;
  const supply = sheet.supply ?? NO_SUPPLY;
  const through = sheet.through?.[0] ?? { title: "", cavities: {} };
  const setThrough = (of: string, change: Partial<typeof through>) =>
    onChange(of, (now) => {
      const next = { ...(now.through?.[0] ?? { title: "", cavities: {} }), ...change };
      return { ...now, through: next.title === "" && Object.keys(next.cavities).length === 0 ? [] : [next] };
    });
  const table = useTyped(tableText(sheet.table), (text) =>
    onChange("table", (now) => ({ ...now, table: tableOf(text) })),
  );
  const cavities = useTyped(cavitiesText(through.cavities), (text) =>
    setThrough("through cavities", { cavities: cavitiesOf(text) }),
  );
  const plain = (field: "module" | "plug" | "place" | "ground", label: string, hint = "") => (
    <TextField
      label={label}
      value={sheet[field] ?? ""}
      maxLength={60}
      placeholder={hint}
      problem={problems.get(field)}
      onChange={(event) => onChange(field, (now) => ({ ...now, [field]: event.target.value }))}
    />
  );
  const several = [...problems].find(([field]) => field.startsWith("table"))?.[1];
  return (
    <div className="space-y-4">
      {(template.fed || template.relay) && (
        <section aria-label="Supply" className="flex flex-wrap items-end gap-3">
          <div>
            <span className="text-sm text-soft">Supplied</span>
            <Picks
              label="Supplied"
              single
              options={SOURCES}
              chosen={supply.source === "" ? [] : [supply.source ?? ""]}
              onChange={([source = ""]) =>
                onChange("", (now) => ({
                  ...now,
                  supply: { ...supply, source: source as NonNullable<typeof supply.source> },
                }))
              }
            />
          </div>
          <div className="w-20">
            <TextField
              label="Fuse, A"
              inputMode="decimal"
              value={supply.fuse_a ?? ""}
              onChange={(event) =>
                onChange("fuse_a", (now) => ({
                  ...now,
                  supply: { ...supply, fuse_a: Number(event.target.value.replace(",", ".")) || null },
                }))
              }
            />
          </div>
          <div className="w-28">
            <TextField
              label="Fuse number"
              value={supply.fuse ?? ""}
              maxLength={12}
              onChange={(event) =>
                onChange("fuse", (now) => ({
                  ...now,
                  supply: { ...supply, fuse: event.target.value.trim() },
                }))
              }
            />
          </div>
          {(template.relay || supply.source === "main relay") && (
            <div className="w-28">
              <TextField
                label="Relay number"
                value={supply.relay ?? ""}
                maxLength={12}
                onChange={(event) =>
                  onChange("relay", (now) => ({
                    ...now,
                    supply: { ...supply, relay: event.target.value.trim() },
                  }))
                }
              />
            </div>
          )}
        </section>
      )}
      {template.figures.length > 0 && (
        <section aria-label="Figures" className="grid gap-3 sm:grid-cols-2">
          {template.figures.map((figure) => (
            <TextField
              key={figure.place}
              label={`${figure.label}${figure.unit ? `, ${figure.unit}` : ""}`}
              value={sheet.figures?.[figure.place] ?? ""}
              placeholder={`usually ${figure.value}`}
              maxLength={60}
              problem={problems.get(`figures.${figure.place}`)}
              onChange={(event) =>
                onChange(figure.place, (now) => {
                  const { [figure.place]: _, ...rest } = now.figures ?? {};
                  const value = event.target.value;
                  return { ...now, figures: value === "" ? rest : { ...rest, [figure.place]: value } };
                })
              }
            />
          ))}
        </section>
      )}
      {template.coded_lines > 0 && (
        <TextField
          label="Positions, 1 for grounded, in the order of the cavities"
          placeholder="P 1011, R 0100"
          problem={several}
          {...table}
        />
      )}
      <details open={through.title !== "" || Object.keys(through.cavities).length > 0}>
        <summary className="min-h-11 cursor-pointer py-2 text-sm underline underline-offset-4">
          Designations, place, and a connector on the way
        </summary>
        <div className="grid gap-3 sm:grid-cols-2">
          {plain("module", "Module", "ECM")}
          {plain("plug", "Plug", "X2")}
          {plain("place", "Where the plug sits")}
          {plain("ground", "Ground point", "G1")}
          <TextField
            label="Connector on the way"
            value={through.title}
            maxLength={60}
            placeholder="boot connector"
            onChange={(event) => setThrough("through", { title: event.target.value })}
          />
          <TextField
            label="Cavities that go through it"
            placeholder="1, 2, 3=5"
            problem={[...problems].find(([field]) => field.startsWith("through"))?.[1]}
            {...cavities}
          />
        </div>
      </details>
    </div>
  );
}
