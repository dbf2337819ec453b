/** Whether this browser can open Sondar without a connection, and if not, why. */
export function ThisDevice() {
  const can = "serviceWorker" in navigator;
  return (
    <section className="space-y-1">
      <h2 className="text-xl">This device</h2>
      <p>
        {can
          ? "Opens without a connection: what was seen last is shown, and readings are kept and sent in order later."
          : "Cannot open without a connection at this address. Browsers allow it only over HTTPS, or on the machine on which Sondar runs; docs/operations.md says how. A page that is open goes on all the same."}
      </p>
    </section>
  );
}
