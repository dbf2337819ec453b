"""What a wiring sheet says about one part, cavity by cavity.

A *sheet* names the kind of part (a typical circuit), and for each cavity of its plug what it carries, the colour of its wire, the pin of the
module it goes to and who else is joined to it; beside that the fuse, the relay or the main relay that feeds it, connectors on the
way, and figures. Whatever the sheet leaves out stays as is typical for the kind, as a range where it differs between makes.
"""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, StringConstraints

from sondar.core.circuit.families.base import Fields
from sondar.core.word_match import as_id

Word = Annotated[str, StringConstraints(max_length=60, strip_whitespace=True)]
Number = Annotated[str, StringConstraints(max_length=12, pattern=r"^[A-Za-z0-9_-]*$", strip_whitespace=True)]
"""Number of a cavity or a pin as it is moulded beside it."""

PictureId = Annotated[str, StringConstraints(pattern=r"^[0-9a-f-]{36}$")]

Source = Literal["", "key", "battery", "main relay"]
MOST_ROWS, MOST_SHARED, MOST_THROUGH = 40, 6, 4


class SheetRow(Fields):
    """One cavity of the part's plug."""

    cavity: Number = Field(min_length=1, description="Its number on the vehicle's plug.")
    carries: int | None = Field(
        None, ge=1, description="Cavity of the typical circuit that it is, from 1; left out if nobody knows."
    )
    colour: Word = Field("", description="Colour of its wire, in words or as abbreviated on the sheet.")
    mm2: float | None = Field(None, gt=0.0, le=150.0)
    pin: Number = Field("", description="Pin of the module that it goes to.")
    shared: list[Word] = Field(default_factory=list, max_length=MOST_SHARED, description="Other parts on the same wire.")


class Supply(Fields):
    """How the part is fed."""

    source: Source = Field("", description="Empty: as is typical for the kind.")
    fuse: Number = Field("", description="Number of the fuse.")
    fuse_a: float | None = Field(None, gt=0.0, le=500.0)
    relay: Word = Field("", description="Number or name of the relay, where there is one.")


class Through(Fields):
    """A connector on the way from the harness to the part."""

    title: Word = Field(min_length=1)
    cavities: dict[Word, Number] = Field(max_length=MOST_ROWS, description="Cavity of the part's plug -> its own cavity.")


class Sheet(Fields):
    """What is known of one part's wiring."""

    template: Word = Field(min_length=1, description="Kind of part: id of a typical circuit.")
    part: Word = Field("", description="What the part is called.")
    make: Word = Field(min_length=1)
    model: Word = ""
    years: Word = ""
    module: Number = Field("", description="Designation of the module, such as ECM.")
    plug: Word = Field("", description="Designation of the part's plug.")
    place: Word = Field("", description="Where the plug sits.")
    ground: Number = Field("", description="Designation of the ground point.")
    rows: list[SheetRow] = Field(min_length=1, max_length=MOST_ROWS)
    supply: Supply = Supply()
    through: list[Through] = Field(default_factory=list, max_length=MOST_THROUGH)
    figures: dict[Word, Word] = Field(
        default_factory=dict, max_length=40, description="Part.field -> figure or range, e.g. Y.coil_ohm: 7 to 8."
    )
    pictures: list[PictureId] = Field(default_factory=list, max_length=12, description="Photographs or pages of the sheet itself.")
    table: dict[Word, Word] = Field(
        default_factory=dict, max_length=24,
        description="Of a coded switch: position -> one digit per line in the order of the cavities, 1 for grounded.",
    )  # fmt: skip


def sheet_slug(sheet: Sheet) -> str:
    """Identifier of the circuit that a sheet describes: the same part of the same vehicle is the same circuit."""
    return as_id(f"{sheet.make} {sheet.model} {sheet.part or sheet.template} {sheet.plug}")[:120] or "circuit"
