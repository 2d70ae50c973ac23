"""What is looked for in Records, as an address or a job has it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import date, datetime
from typing import Any

from flask import request
from sqlalchemy.orm import Session

from brumel.core.errors import InputError, InputErrors
from brumel.core.quantity_table import ON_SHEET
from brumel.web.reader import reader
from brumel.work import records
from brumel.work.desk import object_id
from brumel.work.quantities import names as quantity_names
from brumel.work.records import decisions, visits

#: The fields of a search, as an address names them.
NAMES = (
    "client",
    "site",
    "round",
    "person",
    "quantity",
    "backing",
    "worth",
    "decision",
    "signed",
    "words",
    "since",
    "until",
)
#: How a page shows what was found, beside what is looked for.
SHOWN = ("sort", "rows")
LONGEST_WORDS = 80


def of_arguments(given: Mapping[str, str]) -> records.Search:
    """The search that an address's arguments mean; days are those of the sites. A bad one is a sentence, not a guess."""
    faults: list[InputError] = []

    def day(name: str) -> date | None:
        text = given.get(name, "")
        if not text:
            return None
        try:
            found = datetime.strptime(text, "%Y-%m-%d").date()
        except ValueError:
            faults.append(InputError(name, f"{name.capitalize()} “{text[:20]}” is not a date like 2026-05-31."))
            return None
        if not 1990 <= found.year <= 2100:
            faults.append(InputError(name, f"{name.capitalize()} must lie between 1990 and 2100."))
            return None
        return found

    def choice(name: str, allowed: tuple[str, ...], usual: str = "") -> str:
        text = given.get(name, "") or usual
        if text and text not in allowed:
            faults.append(InputError(name, f"{name.capitalize()} “{text[:20]}” is not one of {', '.join(allowed)}."))
            return usual
        return text

    def thing(name: str) -> Any:
        return object_id(given[name], name) if given.get(name) else None

    page = 1
    try:
        page = page_of(given)
    except InputError as error:
        faults.append(error)
    words = " ".join(given.get("words", "").replace("\x00", "").split())
    if len(words) > LONGEST_WORDS:
        faults.append(InputError("words", f"Words have {len(words)} characters; {LONGEST_WORDS} are allowed."))
    search = records.Search(
        client_id=thing("client"),
        site_id=thing("site"),
        round_id=thing("round"),
        person_id=thing("person"),
        quantity=choice("quantity", tuple(ON_SHEET)),
        backing=choice("backing", quantity_names.BACKINGS),
        worth=choice("worth", records.WORTHS),
        decision=choice("decision", tuple(decisions.DECISIONS)),
        signed=choice("signed", ("yes", "no")),
        words=words,
        since=day("since"),
        until=day("until"),
        zone=reader().zone,
        sort=choice("sort", records.SORTS, "newest"),
        page=page,
        size=records.SIZES[choice("rows", tuple(records.SIZES), "wide")],
    )
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return search


def page_of(given: Mapping[str, str]) -> int:
    """The page of a list that an address asks for; the first where it is none. Raises InputError."""
    page = given.get("page", "1")
    if not re.fullmatch(r"[1-9]\d{0,4}", page, re.ASCII):
        raise InputError("page", f"Page “{page[:20]}” is not a page number.")
    return int(page)


def asked(given: Mapping[str, str]) -> dict[str, str]:
    """What an address asks for, without what it leaves empty: for links that ask for the same."""
    return {name: given[name] for name in (*NAMES, *SHOWN) if given.get(name)}


def shown(session: Session, search: records.Search) -> dict[str, Any]:
    """What the fields of a search and the links of its page need."""
    choices = visits.choices(session)
    given = asked(request.args)
    return {
        "search": search,
        "asked": given,
        "is_narrow": any(name in given for name in NAMES),
        "is_compact": search.size == records.SIZES["compact"],
        "choices": choices,
        "clients": [(client_id, client) for client, client_id, _ in choices.sites],
        "quantity_choices": [(key, quantity_names.name(key)) for key in ON_SHEET],
        "backing_choices": [(key, quantity_names.backing(key)) for key in quantity_names.BACKINGS],
        "decided": decisions.DECISIONS,
        "marks": visits.MARKS,
        "marks_of": visits.marks_of,
    }
