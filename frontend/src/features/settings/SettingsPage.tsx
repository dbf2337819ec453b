import { useMe } from "../../api/session";
import { Audit } from "./Audit";
import { Meters } from "./Meters";
import { OwnAccount } from "./OwnAccount";
import { People } from "./People";
import { Programs } from "./Programs";
import { ThisDevice } from "./ThisDevice";
import { Workshop } from "./Workshop";

/** Settings: the own account for everyone, the workshop for a workshop lead. */
export default function SettingsPage() {
  const me = useMe().data;
  if (!me?.signed_in) return null;
  const canChange = me.role === "lead";
  return (
    <main className="mx-auto grid max-w-6xl gap-x-12 gap-y-8 px-5 py-5 md:grid-cols-2">
      <div className="space-y-8">
        <h1 className="text-3xl">Settings</h1>
        <OwnAccount me={me} />
        <Meters canChange={canChange} />
        <ThisDevice />
      </div>
      <div className="space-y-8">
        {canChange ? (
          <>
            <Workshop me={me} />
            {!me.workshop?.alone && <People me={me} />}
            <Programs />
            <Audit />
          </>
        ) : (
          <p className="text-soft md:mt-12">
            {me.workshop?.name}. Name, rate, tools and people are set by a workshop lead.
          </p>
        )}
      </div>
    </main>
  );
}
