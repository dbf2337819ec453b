import { useQuery } from "@tanstack/react-query";
import { api, type Schema, unwrap } from "../../api/client";
import { useUnits } from "../../lib/units";
import { Button } from "../../ui/Button";

type Vehicle = Schema["VehicleView"];

const SHORTEST_PLATE = 3;

/** Vehicles with this plate that have been here; one tap takes one. */
export function SeenBefore({ plate, onTake }: { plate: string; onTake: (vehicle: Vehicle) => void }) {
  const { data } = useQuery({
    queryKey: ["vehicles", plate],
    enabled: plate.length >= SHORTEST_PLATE,
    queryFn: async () => unwrap(await api.GET("/api/v1/vehicles", { params: { query: { plate } } })),
  });
  return (data?.vehicles ?? []).map((vehicle) => (
    <Button key={vehicle.id} className="block w-full py-2 text-left" onClick={() => onTake(vehicle)}>
      <strong className="font-[650]">
        {vehicle.make} {vehicle.model} {vehicle.year ?? ""}
      </strong>{" "}
      has been here: {vehicle.jobs} job{vehicle.jobs === 1 ? "" : "s"}. Use it
    </Button>
  ));
}

/** The vehicle that was recognised by its plate. */
export function KnownVehicle({ vehicle, onOther }: { vehicle: Vehicle; onOther: () => void }) {
  const { distance } = useUnits();
  return (
    <div className="flex items-center justify-between gap-3 border-l-4 border-ink bg-depth-1 px-3 py-2">
      <span>
        <strong className="font-[650]">
          {vehicle.make} {vehicle.model} {vehicle.year ?? ""}
        </strong>
        <span className="block text-sm text-soft">
          {vehicle.engine}{" "}
          {vehicle.mileage_km ? `· ${distance.show(vehicle.mileage_km)} ${distance.label} last` : ""} ·{" "}
          {vehicle.jobs} job{vehicle.jobs === 1 ? "" : "s"} before
        </span>
      </span>
      <Button kind="quiet" onClick={onOther}>
        Another one
      </Button>
    </div>
  );
}
