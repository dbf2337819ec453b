import type { Schema, TestIn } from "../../api/client";
import { CircuitDrawing } from "../measure/drawing/CircuitDrawing";

const STILL: TestIn = { instrument: "", red: "", black: "", setup: { controls: {}, unplugged: [] } };

/** What follows from the sheet: what a healthy vehicle shows, what is still open, and the drawing. */
export function Preview({ preview }: { preview: Schema["SheetPreview"] }) {
  const { circuit } = preview;
  if (!circuit) return null;
  return (
    <>
      <section aria-label="Healthy readings" className="overflow-x-auto">
        <h2 className="text-lg">A healthy vehicle shows</h2>
        <table className="w-full text-sm">
          <thead>
            <tr className="text-left text-soft">
              <th className="font-[400]">Cavity</th>
              {preview.setups.map((setup) => (
                <th key={setup} className="font-[400]">
                  {setup}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {preview.healthy.map((row) => (
              <tr key={row.cavity} className="border-t border-rule align-top">
                <th scope="row" className="py-1 pr-2 text-left font-[400]">
                  <span className="figure font-[650]">{row.cavity}</span> {row.carries}
                </th>
                {row.shows.map((shows, index) => (
                  <td key={preview.setups[index]} className="figure py-1 pr-2">
                    {shows}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      {preview.open.length > 0 && (
        <section aria-label="Still open">
          <h2 className="text-lg">Still open</h2>
          <ul className="text-sm">
            {preview.open.map((item) => (
              <li key={item.what} className="border-t border-rule py-1">
                {item.what}: <span className="text-soft">{item.why}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
      <section
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        aria-label="Circuit drawing"
        data-testid="drawing"
        className="max-h-[70vh] overflow-auto border-t border-rule"
      >
        <CircuitDrawing
          circuit={circuit}
          readings={[]}
          weights={{}}
          test={STILL}
          expected={null}
          onPoint={() => undefined}
          onConnector={() => undefined}
          onControl={() => undefined}
        />
      </section>
    </>
  );
}
