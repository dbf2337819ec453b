"""What is served besides the API: the page, its assets, and nothing else."""

from __future__ import annotations

import pytest
from flask.testing import FlaskClient

from sondar.web.application import FRONTEND


def test_every_screen_address_gets_the_page(client: FlaskClient) -> None:
    for path in ("/", "/jobs/new", "/jobs/abc/conclusion"):
        answer = client.get(path)
        assert answer.status_code == 200
        assert b'<div id="root">' in answer.data
        assert "no-cache" in answer.headers.get("Cache-Control", "") or "max-age=0" in answer.headers.get("Cache-Control", "")


def test_assets_are_kept_by_the_browser_for_good(client: FlaskClient) -> None:
    asset = next((FRONTEND / "assets").glob("*.js"))
    answer = client.get(f"/assets/{asset.name}")
    assert answer.status_code == 200
    assert "immutable" in answer.headers["Cache-Control"]


@pytest.mark.parametrize("path", ["/../pyproject.toml", "/..%2f..%2fpyproject.toml", "/assets/../../package.json"])
def test_nothing_outside_the_build_is_served(client: FlaskClient, path: str) -> None:
    answer = client.get(path)
    assert b"[tool." not in answer.data
    assert b"sondar-frontend" not in answer.data


def test_the_page_asks_nobody_else(client: FlaskClient) -> None:
    """No address outside this server in what is shipped, so that it works without a network."""
    page = client.get("/").data.decode()
    assert "http://" not in page
    assert "https://" not in page
    for style in (FRONTEND / "assets").glob("*.css"):
        assert "url(http" not in style.read_text(encoding="utf-8")


def test_wrong_method_and_broken_json_are_problems(client: FlaskClient) -> None:
    wrong = client.delete("/api/v1/jobs")
    assert wrong.status_code == 405
    assert wrong.content_type == "application/problem+json"
    broken = client.post("/api/v1/jobs", data="{", content_type="application/json")
    assert broken.status_code in (400, 422)
    assert broken.content_type == "application/problem+json"
