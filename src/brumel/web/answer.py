"""The one way a form answers: back to the page, with the sentence of what was refused."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import redirect

from brumel.core.errors import InputError
from brumel.work.desk import Refused


def answer(do: Callable[[], str], again: Callable[[Any], Any]) -> Any:
    """Do one write, which returns where to go next; a refusal shows the page again with its sentence and what was typed."""
    try:
        return redirect(do())
    except InputError as error:
        return again(error.faults)
    except Refused as error:
        return again((error,))
