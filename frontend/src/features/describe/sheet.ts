import type { Schema } from "../../api/client";

export type Sheet = Schema["Sheet"];
export type Row = Schema["SheetRow"];
export type Template = Schema["TemplateView"];

export const NO_SUPPLY: Sheet["supply"] = { source: "", fuse: "", fuse_a: null, relay: "" };

/** A sheet with nothing on it yet. */
export function emptySheet(make: string, model: string, part: string): Sheet {
  return {
    template: "",
    part,
    make,
    model,
    years: "",
    module: "",
    plug: "",
    place: "",
    ground: "",
    rows: [],
    supply: NO_SUPPLY,
    through: [],
    figures: {},
    table: {},
    pictures: [],
  };
}

function row(cavity: string, carries: number | null): Row {
  return { cavity, carries, colour: "", mm2: null, pin: "", shared: [] };
}

/** The sheet for a kind of part: its cavities in the usual order; what was already said of a cavity stays. */
export function ofKind(sheet: Sheet, template: Template): Sheet {
  const rows = template.carries.map((_, index) => {
    const before = sheet.rows[index];
    return before ? { ...before, carries: index + 1 } : row(String(index + 1), index + 1);
  });
  return { ...sheet, template: template.id, rows, figures: {}, table: {} };
}

/** One cavity changed. Two cavities that change places exchange what they carry. */
export function withRow(sheet: Sheet, index: number, change: Partial<Row>): Sheet {
  const before = sheet.rows[index];
  const rows = sheet.rows.map((one, place) => {
    if (place === index) return { ...one, ...change };
    const taken = change.carries !== undefined && change.carries !== null && one.carries === change.carries;
    return taken ? { ...one, carries: before?.carries ?? null } : one;
  });
  return { ...sheet, rows };
}

/** Rows of a pin table on the sheet: cavities, colours, sizes, and the module's pins. */
export function withTable(sheet: Sheet, table: Schema["TableView"], connector: string): Sheet {
  const found = table.rows.filter((one) => one.connector === connector);
  const module = sheet.module || (ends(found)[0] ?? "");
  const rows = found.map((one, index) => {
    const [at = "", pin = ""] = one.end.split(/[\s.:/]+/);
    return {
      ...row(one.cavity, sheet.rows[index]?.carries ?? null),
      colour: one.colour,
      mm2: one.mm2 ?? null,
      pin: at === module && /^[A-Za-z0-9_-]{1,12}$/.test(pin) ? pin : "",
    };
  });
  return { ...sheet, module, plug: sheet.plug || connector, rows };
}

/** Where most wires of a table lead to: probably the module. */
function ends(rows: Schema["PinRowView"][]): string[] {
  const count = new Map<string, number>();
  for (const one of rows) {
    const [at = "", pin = ""] = one.end.split(/[\s.:/]+/);
    if (at && pin && /^[A-Za-z0-9_-]{1,12}$/.test(at)) count.set(at, (count.get(at) ?? 0) + 1);
  }
  return [...count].sort((a, b) => b[1] - a[1]).map(([name]) => name);
}

/** "P 1011, R 0100" as positions and codes, and back. */
export function tableOf(text: string): Record<string, string> {
  const found: Record<string, string> = {};
  for (const item of text.split(/[,;\n]+/)) {
    const [position, code] = item.trim().split(/[\s=:]+/);
    if (position) found[position] = code ?? "";
  }
  return found;
}

export function tableText(table: Record<string, string> | undefined): string {
  return Object.entries(table ?? {})
    .map(([position, code]) => `${position} ${code}`.trim())
    .join(", ");
}

/** "1, 2 = 5" as cavities of the plug and of a connector on the way, and back. */
export function cavitiesOf(text: string): Record<string, string> {
  const found: Record<string, string> = {};
  for (const item of text.split(/[,;\s]+(?!=)/)) {
    const [cavity, own] = item.split("=").map((one) => one.trim());
    if (cavity) found[cavity] = own || cavity;
  }
  return found;
}

export function cavitiesText(cavities: Record<string, string>): string {
  return Object.entries(cavities)
    .map(([cavity, own]) => (cavity === own ? cavity : `${cavity}=${own}`))
    .join(", ");
}
