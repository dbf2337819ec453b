import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { api, type Schema, unwrap } from "../../api/client";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

export interface TableFile {
  name: string;
  text: string;
}

const FIELDS = ["connector", "cavity", "wire", "colour", "mm2", "from", "to"];

/** A pin table or WireViz file before it is used: how it was read, which plug is meant, what each column is. */
export function TableDialog(props: {
  file: TableFile | null;
  onClose: () => void;
  onUse: (table: Schema["TableView"], connector: string) => void;
}) {
  const { file } = props;
  const [fields, setFields] = useState<string[]>([]);
  const [connector, setConnector] = useState<string | null>(null);
  useEffect(() => {
    if (file) {
      setFields([]);
      setConnector(null);
    }
  }, [file]);
  const form = file && /\.ya?ml$/i.test(file.name) ? ("wireviz" as const) : ("csv" as const);
  const look = useQuery({
    queryKey: ["pin-table", file?.text, form, fields],
    enabled: file !== null,
    retry: false,
    placeholderData: (before) => before,
    queryFn: async () =>
      unwrap(await api.POST("/api/v1/sheets/table", { body: { text: file?.text ?? "", form, fields } })),
  });
  const table = look.data;
  const chosen = connector ?? table?.connectors[0] ?? "";
  const rows = table?.rows.filter((row) => row.connector === chosen) ?? [];
  return (
    <Dialog.Root open={file !== null} onOpenChange={(open) => !open && props.onClose()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed top-[6%] left-1/2 z-20 flex max-h-[88%] w-[min(52rem,96vw)] -translate-x-1/2 flex-col rounded-sm bg-paper p-5 shadow-xl">
          <Dialog.Title className="text-xl">Pins in “{file?.name}”</Dialog.Title>
          <Dialog.Description className="mb-2 text-soft">
            {table
              ? `Read as ${table.form}. Compare with the file.`
              : "Nothing is used before you have looked at it."}
          </Dialog.Description>
          {look.error && <Notice tone="problem">{look.error.message}</Notice>}
          {table && (
            <div className="min-h-0 flex-1 overflow-auto border-y border-rule py-2">
              {table.connectors.length > 1 && (
                <label className="mb-2 block text-sm text-soft">
                  The part's plug
                  <select
                    className="mt-1 block min-h-11 border border-ink/60 bg-raised px-2 text-base text-ink"
                    value={chosen}
                    onChange={(event) => setConnector(event.target.value)}
                  >
                    {table.connectors.map((name) => (
                      <option key={name} value={name}>
                        {name || "without a name"}
                      </option>
                    ))}
                  </select>
                </label>
              )}
              {table.columns.length > 0 && (
                <div className="mb-2 flex flex-wrap gap-2">
                  {table.columns.map((column, index) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: two columns may have one heading
                    <label key={index} className="text-sm text-soft">
                      {column.heading}
                      <select
                        className="mt-1 block min-h-11 border border-ink/60 bg-raised px-2 text-base text-ink"
                        value={column.field}
                        onChange={(event) =>
                          setFields(
                            table.columns.map((one, place) =>
                              place === index ? event.target.value : one.field,
                            ),
                          )
                        }
                      >
                        <option value="">not used</option>
                        {FIELDS.map((field) => (
                          <option key={field}>{field}</option>
                        ))}
                      </select>
                    </label>
                  ))}
                </div>
              )}
              <table className="w-full text-sm" aria-label="Cavities as read">
                <thead>
                  <tr className="text-left text-soft">
                    {["Cavity", "Wire", "Colour", "mm²", "Leads to"].map((title) => (
                      <th key={title} className="font-[400]">
                        {title}
                      </th>
                    ))}
                  </tr>
                </thead>
                <tbody>
                  {rows.map((row) => (
                    <tr key={`${row.cavity} ${row.wire}`} className="border-t border-rule">
                      <th scope="row" className="figure py-1 text-left">
                        {row.cavity}
                      </th>
                      <td>{row.wire}</td>
                      <td>{row.colour}</td>
                      <td className="figure">{row.mm2 ?? ""}</td>
                      <td>{row.end}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
              {table.notes.length > 0 && (
                <ul className="mt-3 text-sm" aria-label="Not used">
                  {table.notes.map((note) => (
                    <li key={`${note.line} ${note.text}`} className="border-t border-rule py-1">
                      <span className="text-soft">line {note.line}</span> {note.text}
                    </li>
                  ))}
                </ul>
              )}
            </div>
          )}
          <div className="mt-3 flex justify-end gap-3">
            <Button kind="quiet" onClick={props.onClose}>
              Cancel
            </Button>
            <Button
              kind="next"
              disabled={rows.length === 0}
              onClick={() => table && props.onUse(table, chosen)}
            >
              {rows.length === 1 ? "Use 1 cavity" : `Use ${rows.length} cavities`}
            </Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
