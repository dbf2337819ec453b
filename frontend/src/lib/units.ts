import { useMe } from "../api/session";

/** How a quantity is shown and typed; what is kept is always km and °C. */
export interface Unit {
  label: string;
  show: (kept: number) => number;
  keep: (shown: number) => number;
}

const KM_PER_MILE = 1.609344; // exact, international yard and pound agreement of 1959
const same = (value: number) => value;

const UNITS: Record<string, Unit> = {
  km: { label: "km", show: same, keep: same },
  mi: {
    label: "miles",
    show: (km) => Math.round(km / KM_PER_MILE),
    keep: (miles) => Math.round(miles * KM_PER_MILE),
  },
  C: { label: "°C", show: same, keep: same },
  F: {
    label: "°F",
    show: (celsius) => Math.round((celsius * 9) / 5 + 32),
    keep: (fahrenheit) => Math.round(((fahrenheit - 32) * 500) / 9) / 100,
  },
};

/** The workshop's units. */
export function useUnits(): { distance: Unit; temperature: Unit } {
  const workshop = useMe().data?.workshop;
  return {
    distance: UNITS[workshop?.distance_unit ?? "km"] as Unit,
    temperature: UNITS[workshop?.temperature_unit ?? "C"] as Unit,
  };
}
