"""A word that the instrument must show."""

from __future__ import annotations

from collections.abc import Callable
from typing import Annotated, Any

from pydantic import AfterValidator, Field

from sondar.core.circuit.families.base import Fields
from sondar.core.limits.conformity import Conformity, Measured
from sondar.core.limits.forms.base import Context, Judging, sure


class WordFields(Fields):
    """Fields of a limit in words."""

    word: Annotated[str, AfterValidator(str.strip)] = Field("", description="Or the word it must show, e.g. bright.")


class Word(Judging):
    """The instrument shows this word."""

    def applies(self, limit: Any) -> bool:
        return bool(limit.word)

    def expected(self, limit: Any, context: Context, figure: Callable[[float], str]) -> str:
        return str(limit.word)

    def judge(self, limit: Any, measured: Measured | None, word: str | None, context: Context) -> Conformity:
        return sure(word == limit.word)
