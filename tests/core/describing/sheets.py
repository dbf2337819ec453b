"""Six wiring sheets as a technician reads them off: nothing of them is in the library."""

from __future__ import annotations

from typing import Any


def cavity(number: str, carries: int, colour: str = "", **more: Any) -> dict[str, Any]:
    return {"cavity": number, "carries": carries, "colour": colour, **more}


PRESSURE_AND_TEMPERATURE: dict[str, Any] = {
    "template": "pressure-temperature-four-wire", "part": "intake pressure and temperature sensor", "make": "Brigg", "model": "Skerry",
    "rows": [
        cavity("1", 1, "pk/bk"), cavity("2", 2, "vt/wh", shared=["throttle sensor"]), cavity("3", 3, "ye/bu"),
        cavity("4", 4, "gn/bn", shared=["throttle sensor"]),
    ],
}  # fmt: skip
OIL_CONTROL_VALVE: dict[str, Any] = {
    "template": "valve-pulsed", "part": "oil-control valve", "make": "Tessel", "model": "Quay 2.2",
    "supply": {"source": "main relay", "fuse_a": 15}, "figures": {"Y.coil_ohm": "7 to 8"},
    "rows": [cavity("1", 1, "wh/rd", shared=["exhaust valve", "wastegate valve"]), cavity("2", 2, "gy/bu")],
}  # fmt: skip
REAR_WIPER: dict[str, Any] = {
    "template": "wiper-on-its-module", "part": "rear wiper", "make": "Orvane", "model": "Lisk", "plug": "X90", "module": "BCM",
    "supply": {"fuse_a": 20}, "through": [{"title": "Boot connector", "cavities": {"1": "1", "2": "2", "3": "3"}}],
    "rows": [cavity("1", 1, "red"), cavity("2", 2, "brown"), cavity("3", 3), cavity("4", 4, "blue"), cavity("5", 5, "grey")],
}  # fmt: skip
VENTILATION_HEATER: dict[str, Any] = {
    "template": "heater-relay", "part": "crankcase ventilation heater", "make": "Halden", "model": "Tern", "place": "under the intake",
    "supply": {"source": "key", "fuse_a": 10}, "rows": [cavity("1", 1, pin="57"), cavity("2", 2)],
}  # fmt: skip
GEAR_RANGE_SWITCH: dict[str, Any] = {
    "template": "range-switch-coded", "part": "gear range switch", "make": "Tessel", "model": "Quay", "module": "TCM",
    "table": {"P": "1011", "R": "0100", "N": "1101", "D": "0010"},
    "rows": [*(cavity(str(n), n, pin=str(10 + n)) for n in (1, 2, 3, 4)), cavity("5", 5)],
}  # fmt: skip
WIDE_BAND_SENSOR: dict[str, Any] = {
    "template": "oxygen-wide-band-six-wire", "part": "wide-band oxygen sensor", "make": "Orvane", "model": "Lisk",
    "supply": {"source": "main relay", "fuse_a": 15}, "rows": [cavity(str(n), n) for n in range(1, 7)],
}  # fmt: skip

SHEETS = {
    "pressure and temperature": PRESSURE_AND_TEMPERATURE, "oil-control valve": OIL_CONTROL_VALVE, "rear wiper": REAR_WIPER,
    "ventilation heater": VENTILATION_HEATER, "gear range switch": GEAR_RANGE_SWITCH, "wide-band sensor": WIDE_BAND_SENSOR,
}  # fmt: skip
