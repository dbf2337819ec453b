import type { JobDetail } from "../../api/client";
import { Button } from "../../ui/Button";
import { useAnswer } from "./useAnswer";

/** What the readings have left apart, switched or on trial: each is confirmed before the job is closed or handed over. */
export function PutBack({ detail, canWrite }: { detail: JobDetail; canWrite: boolean }) {
  const held = useAnswer<string[]>(detail, "put_back", []);
  const open = detail.put_back.filter((item) => !item.done);
  if (detail.put_back.length === 0) return null;
  const confirm = (keys: string[]) => {
    const known = new Set(detail.put_back.map((item) => item.key));
    const before = (held.value ?? []).filter((key) => known.has(key));
    held.answer([...new Set([...before, ...keys])]);
  };
  return (
    <section
      aria-label="To put back"
      className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-rule bg-raised px-5 py-1 text-sm"
    >
      <h2 className="text-sm font-[650]">{open.length > 0 ? "To put back" : "All put back"}</h2>
      <ul className="flex flex-1 flex-wrap items-center gap-x-4">
        {detail.put_back.map((item) => (
          <li key={item.key}>
            <label className="flex min-h-11 items-center gap-2" title={item.caution}>
              <input
                type="checkbox"
                className="h-5 w-5 accent-[var(--depth-5)]"
                checked={item.done}
                disabled={!canWrite || item.done || held.saving}
                onChange={() => confirm([item.key])}
              />
              <span className={item.done ? "line-through opacity-70" : ""}>{item.title}</span>
            </label>
          </li>
        ))}
      </ul>
      {open.some((item) => item.caution) && <span>{open.find((item) => item.caution)?.caution}</span>}
      {canWrite && open.length > 1 && (
        <Button kind="quiet" onClick={() => confirm(open.map((item) => item.key))} disabled={held.saving}>
          All of it is back
        </Button>
      )}
      {held.problem && <span role="alert">{held.problem.detail}</span>}
    </section>
  );
}
