"""Requests about job bundles."""

from __future__ import annotations

from flask_openapi3 import FileStorage
from pydantic import BaseModel


class BundleForm(BaseModel):
    """A job bundle from another workshop."""

    bundle: FileStorage
