import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Me, unwrap } from "../../api/client";

/** A new workshop: what to set up before the first vehicle, and how far it is. */
export function FirstSteps({ me }: { me: Me }) {
  const lead = me.role === "lead";
  const people = useQuery({
    queryKey: ["accounts"],
    enabled: lead && !me.workshop?.alone,
    queryFn: async () => unwrap(await api.GET("/api/v1/accounts")),
  });
  const meters = useQuery({
    queryKey: ["meters"],
    queryFn: async () => unwrap(await api.GET("/api/v1/meters")),
  });
  const others = (people.data?.accounts.length ?? 1) - 1;
  const known = meters.data?.meters.length ?? 0;
  const tools = me.workshop?.tools.length ?? 0;
  const steps = [
    {
      title: "People",
      show: !me.workshop?.alone,
      done: others > 0,
      says: others > 0 ? `${others} besides you` : "Add those who work here, or say that you work alone.",
    },
    {
      title: "Tools",
      show: true,
      done: (me.workshop?.version ?? 1) > 1,
      says: `${tools} instruments are ticked; only what is at hand is proposed. Look whether they are yours.`,
    },
    {
      title: "Meters",
      show: true,
      done: known > 0,
      says:
        known > 0
          ? `${known} known`
          : "Enter the accuracy of yours, or leave it: an ordinary one is assumed.",
    },
  ].filter((step) => step.show);
  return (
    <div className="py-2" data-testid="first-steps">
      <h2 className="text-xl">Before the first vehicle</h2>
      <ol className="my-3 border-t border-rule">
        {steps.map((step) => (
          <li key={step.title} className="flex min-h-12 items-center gap-4 border-b border-rule py-1">
            <span className="w-6 text-center text-lg" aria-hidden="true">
              {step.done ? "✓" : "○"}
            </span>
            <strong className="w-24 font-[650]">{step.title}</strong>
            <span className="flex-1 text-soft">{step.says}</span>
            {lead && (
              <Link to="/settings" className="flex min-h-11 items-center underline underline-offset-4">
                Settings
              </Link>
            )}
          </li>
        ))}
        <li className="flex min-h-12 items-center gap-4 border-b border-rule py-1">
          <span className="w-6 text-center text-lg" aria-hidden="true">
            ○
          </span>
          <strong className="w-24 font-[650]">First vehicle</strong>
          <span className="flex-1 text-soft">
            Check it in, enter the complaint, read its codes, and Sondar says which circuit to test first and
            what to measure. The circuits that come with Sondar are examples of invented makes: practise on
            them, and hide them under settings when you have your own.
          </span>
          {me.role !== "read-only" && (
            <Link to="/jobs/new" className="flex min-h-11 items-center underline underline-offset-4">
              Check in a vehicle
            </Link>
          )}
        </li>
      </ol>
    </div>
  );
}
