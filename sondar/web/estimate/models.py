"""Requests and responses about estimates. Sums are texts with two decimals: no digit is lost on the way."""

from __future__ import annotations

from typing import Literal
from uuid import UUID

from pydantic import BaseModel, Field

from sondar.web.common import Strict


class EstimateLineView(BaseModel):
    """One line."""

    what: str
    kind: Literal["labour", "part", "other"]
    amount: str
    unit_price: str
    price: str


class AcceptedView(BaseModel):
    """Who accepted it, and when."""

    name: str
    gross: str
    at: str = Field(description="In UTC.")
    same: bool = Field(description="It still comes to what was accepted.")


class EstimateView(BaseModel):
    """An estimate as it stands."""

    currency: str
    lines: list[EstimateLineView]
    discount_percent: str
    tax_percent: str
    labour: str
    parts: str
    other: str
    discount: str
    net: str
    tax: str
    gross: str
    accepted: AcceptedView | None
    proposed: list[EstimateLineView] = Field(
        description="Lines that follow from repairs, parts and the time between readings, and are not written yet."
    )


class EstimateQuery(BaseModel):
    """As what."""

    form: Literal["json", "csv"] = "json"


class AcceptanceIn(Strict):
    """Somebody accepts the estimate."""

    client_key: UUID
    name: str = Field(min_length=1, max_length=120)
    gross: str = Field(min_length=1, max_length=20, description="What they were shown.")
