"""The limit of a circuit file: where and when it holds, whose figure it is, and the fields of every form."""

from __future__ import annotations

from typing import Literal, Self

from pydantic import Field, model_validator

from sondar.core.circuit.families.base import Quantity
from sondar.core.limits.forms.base import Converting, Form, Judging
from sondar.core.limits.forms.bounds import Bounds, BoundsFields
from sondar.core.limits.forms.copper import Copper, CopperFields
from sondar.core.limits.forms.difference import Difference, DifferenceFields
from sondar.core.limits.forms.ratio import Ratio, RatioFields
from sondar.core.limits.forms.table import Table, TableFields
from sondar.core.limits.forms.word import Word, WordFields

FORMS: tuple[Form, ...] = (Bounds(), Word(), Table(), Copper(), Ratio(), Difference())
"""Every form of limit. A form's fields are a base of ``LimitForms`` as well."""

Source = Literal["manufacturer", "workshop", "known-good vehicles", "sibling", "typical", "predicted"]

SOURCES: dict[Source, str] = {
    "manufacturer": "manufacturer", "workshop": "workshop", "known-good vehicles": "known-good vehicles", "sibling": "sibling part",
    "typical": "typical", "predicted": "predicted by Sondar",
}  # fmt: skip
"""Whose figure a limit is, as the screen says it."""


class LimitForms(BoundsFields, WordFields, TableFields, CopperFields, RatioFields, DifferenceFields):
    """The fields of every form."""


class Limit(LimitForms):
    """What a reading must be, under a condition: one form that judges, perhaps one that converts the reading first."""

    title: str = Field(min_length=1)
    instrument: str = Field("voltmeter", alias="with", description="Id of the instrument.")
    red: str = Field(description="Point of the red probe, or what is looked at.")
    black: str = Field("", description="Point of the black probe; the battery's negative post if left out.")
    when: dict[str, str] = Field(default_factory=dict, description="Controls that differ from rest.")
    unplugged: list[str] = Field(default_factory=list)
    typical: Quantity | None = None
    source: Source = Field("workshop", description="Whose figure it is; the workshop's own if left out.")
    note: str = ""

    @property
    def judging(self) -> Judging:
        """The form that judges."""
        return next(form for form in FORMS if isinstance(form, Judging) and form.applies(self))

    @property
    def converting(self) -> list[Converting]:
        """Forms that convert the reading first, in order."""
        return [form for form in FORMS if isinstance(form, Converting) and form.applies(self)]

    @model_validator(mode="after")
    def _one_form(self) -> Self:
        used = [form for form in FORMS if form.applies(self)]
        if sum(isinstance(form, Judging) for form in used) != 1:
            raise ValueError("give 'min' or 'max' or both, or 'word', or 'table'")
        for form in used:
            form.check(self)
        return self
