import type { KeyboardEvent } from "react";
import { type Row, type Sheet, type Template, withRow } from "./sheet";

const CELL =
  "min-h-11 w-full border border-ink/60 bg-raised px-2 text-base text-ink aria-[invalid=true]:border-2 aria-[invalid=true]:border-ink";

/** Enter goes to the same column of the next cavity, as on paper. */
function down(event: KeyboardEvent<HTMLInputElement>) {
  if (event.key !== "Enter") return;
  event.preventDefault();
  const { column, row } = event.currentTarget.dataset;
  const next = event.currentTarget
    .closest("table")
    ?.querySelector<HTMLElement>(`[data-column="${column}"][data-row="${Number(row) + 1}"]`);
  next?.focus();
}

/** The plug, cavity by cavity: what each carries, its colour, the module's pin, and who shares the wire. */
export function SheetRows(props: {
  sheet: Sheet;
  template: Template;
  problems: Map<string, string>;
  onChange: (of: string, make: (sheet: Sheet) => Sheet) => void;
}) {
  const { sheet, template, problems, onChange } = props;
  const cell = (
    index: number,
    column: keyof Row,
    label: string,
    value: string,
    change: (text: string) => Partial<Row>,
  ) => (
    <td className="p-0.5 align-top">
      <input
        aria-label={`${label} at cavity ${sheet.rows[index]?.cavity ?? index + 1}`}
        aria-invalid={problems.has(`rows.${index}.${column}`)}
        data-column={column}
        data-row={index}
        className={CELL}
        maxLength={60}
        autoComplete="off"
        value={value}
        onKeyDown={down}
        onChange={(event) =>
          onChange(`${column} ${index}`, (now) => withRow(now, index, change(event.target.value)))
        }
      />
      {problems.has(`rows.${index}.${column}`) && (
        <p className="text-sm font-[600]">{problems.get(`rows.${index}.${column}`)}</p>
      )}
    </td>
  );
  return (
    <div className="overflow-x-auto">
      <table className="w-full min-w-[34rem] text-sm" aria-label="Cavities of the plug">
        <thead>
          <tr className="text-left text-soft">
            <th className="w-16 font-[400]">Cavity</th>
            <th className="font-[400]">Carries</th>
            <th className="w-32 font-[400]">Colour</th>
            <th className="w-16 font-[400]">mm²</th>
            <th className="w-24 font-[400]">Module pin</th>
            <th className="w-40 font-[400]">Shared with</th>
          </tr>
        </thead>
        <tbody>
          {sheet.rows.map((row, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: cavities have no identity but their place on the sheet
            <tr key={index}>
              {cell(index, "cavity", "Number", row.cavity, (cavity) => ({ cavity: cavity.trim() }))}
              <td className="p-0.5 align-top">
                <select
                  aria-label={`What cavity ${row.cavity} carries`}
                  className={CELL}
                  value={row.carries ?? ""}
                  onChange={(event) =>
                    onChange("", (now) =>
                      withRow(now, index, {
                        carries: event.target.value === "" ? null : Number(event.target.value),
                      }),
                    )
                  }
                >
                  {template.carries.map((carries, place) => (
                    <option key={carries} value={place + 1}>
                      {carries}
                    </option>
                  ))}
                  <option value="">not known</option>
                </select>
              </td>
              {cell(index, "colour", "Colour", row.colour ?? "", (colour) => ({ colour }))}
              {cell(
                index,
                "mm2",
                "Cross-section",
                row.mm2 === null || row.mm2 === undefined ? "" : String(row.mm2),
                (text) => {
                  const value = Number(text.replace(",", "."));
                  return { mm2: text.trim() === "" || Number.isNaN(value) || value <= 0 ? null : value };
                },
              )}
              {cell(index, "pin", "Module pin", row.pin ?? "", (pin) => ({ pin: pin.trim() }))}
              {cell(index, "shared", "Shared with", (row.shared ?? []).join(","), (text) => ({
                shared: text === "" ? [] : text.split(",").map((name) => name.trimStart()),
              }))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
