"""What every file of `data` is read into: an unknown word, or a number that is none, is an error of the file."""

from pydantic import BaseModel, ConfigDict


class Strict(BaseModel):
    """A model without extra fields that cannot be changed."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)
