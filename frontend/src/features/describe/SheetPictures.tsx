import { useMutation } from "@tanstack/react-query";
import { type PointerEvent, useRef, useState } from "react";
import { api, unwrap } from "../../api/client";
import { sendOnce } from "../../lib/keys";
import { Button } from "../../ui/Button";
import { Notice } from "../../ui/Notice";

const ZOOMS = [1, 1.5, 2, 3, 4, 6];

export function sheetPicture(id: string, size: "full" | "thumbnail" = "full"): string {
  return `/api/v1/sheets/pictures/${id}${size === "thumbnail" ? "?size=thumbnail" : ""}`;
}

/** The wiring sheet itself, beside what is typed from it: photographs or pages of a PDF, enlarged and moved by hand. */
export function SheetPictures(props: { pictures: string[]; onChange: (pictures: string[]) => void }) {
  const { pictures, onChange } = props;
  const picker = useRef<HTMLInputElement>(null);
  const [page, setPage] = useState(0);
  const shown = Math.min(page, pictures.length - 1);
  const current = pictures[shown];
  const add = useMutation({
    mutationFn: (file: File) =>
      sendOnce(["sheet", file.name, file.size, file.lastModified], async (key) => {
        const form = new FormData();
        form.set("client_key", key);
        form.set("picture", file);
        return unwrap(
          await api.POST("/api/v1/sheets/pictures", {
            // The generated type says text where a file goes.
            body: form as never,
            bodySerializer: (body: unknown) => body as FormData,
          }),
        );
      }),
    onSuccess: (answer) => {
      setPage(pictures.length);
      onChange([...pictures, ...answer.pictures.filter((id) => !pictures.includes(id))].slice(0, 12));
    },
  });
  return (
    <section aria-label="Wiring sheet" className="space-y-2">
      <div className="flex flex-wrap items-center gap-2">
        <input
          ref={picker}
          type="file"
          accept="image/jpeg,image/png,image/webp,application/pdf"
          className="sr-only"
          aria-label="Photograph or PDF of the sheet"
          tabIndex={-1}
          onChange={(event) => {
            const file = event.target.files?.[0];
            if (file) add.mutate(file);
            event.target.value = "";
          }}
        />
        <Button onClick={() => picker.current?.click()} disabled={add.isPending}>
          {add.isPending
            ? "Reading it …"
            : current
              ? "Another page"
              : "Show the sheet here (photograph or PDF)"}
        </Button>
        {pictures.length > 1 &&
          pictures.map((id, index) => (
            <Button
              key={id}
              className={index === shown ? "min-w-11 font-[700] underline" : "min-w-11"}
              aria-pressed={index === shown}
              aria-label={`Page ${index + 1} of the sheet`}
              onClick={() => setPage(index)}
            >
              {index + 1}
            </Button>
          ))}
        {current && (
          <Button kind="quiet" onClick={() => onChange(pictures.filter((id) => id !== current))}>
            Take this page away
          </Button>
        )}
      </div>
      {add.error && <Notice tone="problem">{add.error.message}</Notice>}
      {current && <Page key={current} id={current} />}
    </section>
  );
}

function Page({ id }: { id: string }) {
  const frame = useRef<HTMLElement>(null);
  const held = useRef<{ x: number; y: number; left: number; top: number } | null>(null);
  const [zoom, setZoom] = useState(0);
  const factor = ZOOMS[zoom] ?? 1;
  /** The middle of what is seen stays in the middle. */
  const zoomTo = (next: number) => {
    const at = frame.current;
    const grown = (ZOOMS[next] ?? 1) / factor;
    setZoom(next);
    if (!at) return;
    const [x, y] = [at.scrollLeft + at.clientWidth / 2, at.scrollTop + at.clientHeight / 2];
    requestAnimationFrame(() => at.scrollTo(x * grown - at.clientWidth / 2, y * grown - at.clientHeight / 2));
  };
  const move = (event: PointerEvent) => {
    const from = held.current;
    if (from) frame.current?.scrollTo(from.left - event.clientX + from.x, from.top - event.clientY + from.y);
  };
  return (
    <div className="relative">
      <section
        ref={frame}
        // biome-ignore lint/a11y/noNoninteractiveTabindex: a region that scrolls must be reachable by keyboard
        tabIndex={0}
        aria-label="Page of the sheet"
        data-zoom={factor}
        className="h-[46vh] cursor-grab overflow-auto border border-rule bg-white active:cursor-grabbing"
        onKeyDown={(event) => {
          if (event.key === "+" && zoom < ZOOMS.length - 1) zoomTo(zoom + 1);
          if (event.key === "-" && zoom > 0) zoomTo(zoom - 1);
        }}
        onPointerDown={(event) => {
          if (event.pointerType !== "mouse") return;
          event.preventDefault();
          const at = event.currentTarget;
          held.current = { x: event.clientX, y: event.clientY, left: at.scrollLeft, top: at.scrollTop };
          at.setPointerCapture(event.pointerId);
        }}
        onPointerMove={move}
        onPointerUp={() => {
          held.current = null;
        }}
      >
        <img
          src={sheetPicture(id)}
          alt="Wiring sheet"
          draggable={false}
          className="block max-w-none"
          style={{ width: `${factor * 100}%` }}
        />
      </section>
      <div className="absolute top-2 right-5 flex gap-1 bg-paper">
        <Button disabled={zoom === 0} aria-label="Smaller" onClick={() => zoomTo(zoom - 1)}>
          −
        </Button>
        <Button disabled={zoom === ZOOMS.length - 1} aria-label="Larger" onClick={() => zoomTo(zoom + 1)}>
          +
        </Button>
      </div>
    </div>
  );
}
