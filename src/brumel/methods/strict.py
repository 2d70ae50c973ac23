"""What every file of `data` is read into: an unknown word, or a number that is none, is an error of the file."""

from typing import Any

import yaml
from pydantic import BaseModel, ConfigDict

#: The safe reader, by the C library where the package came with it: ten times as fast, and read at every start.
_SAFE = getattr(yaml, "CSafeLoader", yaml.SafeLoader)


def load_yaml(text: str) -> Any:
    """A YAML text as plain data. Raises yaml.YAMLError."""
    return yaml.load(text, Loader=_SAFE)  # noqa: S506 - a safe loader


class Strict(BaseModel):
    """A model without extra fields that cannot be changed."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
