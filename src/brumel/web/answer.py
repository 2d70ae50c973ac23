"""The one way a form answers: on to the next page, or back to its own with the sentence of what was refused."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import flash, redirect

from brumel.core.errors import InputError
from brumel.web.reader import in_words
from brumel.work.desk import Conflict, MovedOn, Refused


def answer(do: Callable[[], str | None], again: Callable[[Any], Any], afresh: str = "") -> Any:
    """Do one write. It returns where to go next; where it returns nothing, that is `afresh`.

    again : shows the page again with the faults and what was typed, for what was refused
    afresh : where the thing is seen as it stands now, for what moved on in another window
    """
    try:
        return redirect(do() or afresh)
    except MovedOn as error:
        if not afresh:
            return again((error,))
        flash(in_words(error), "care")
        return redirect(afresh)
    except InputError as error:
        return again(error.faults)
    except Conflict as error:
        page = again((error,))
        return (page[0] if isinstance(page, tuple) else page), 409
    except Refused as error:
        return again((error,))
