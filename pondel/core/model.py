"""What every piece of a mix document is built on."""

from __future__ import annotations

from pydantic import BaseModel, ConfigDict


class Model(BaseModel):
    """Strict about names, finite in numbers."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False, validate_default=True)
