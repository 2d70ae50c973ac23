"""What is looked for in Records, as an address or a job has it."""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime, timedelta

from brumel.core.errors import InputError, InputErrors
from brumel.core.quantity_table import ON_SHEET
from brumel.web.reader import reader
from brumel.work import records
from brumel.work.desk import object_id
from brumel.work.quantities import names as quantity_names

NAMES = ("site", "quantity", "backing", "since", "until")


def of_arguments(given: Mapping[str, str]) -> records.Search:
    """The search that an address's arguments mean; days are the reader's. A bad one is a sentence, not a guess."""
    faults: list[InputError] = []

    def day(name: str) -> datetime | None:
        text = given.get(name, "")
        if not text:
            return None
        try:
            midnight = datetime.strptime(text, "%Y-%m-%d").replace(tzinfo=reader().zone)
        except ValueError:
            faults.append(InputError(name, f"{name.capitalize()} “{text[:20]}” is not a date like 2026-05-31."))
            return None
        if not 1990 <= midnight.year <= 2100:
            faults.append(InputError(name, f"{name.capitalize()} must lie between 1990 and 2100."))
            return None
        return midnight

    def choice(name: str, allowed: tuple[str, ...]) -> str:
        text = given.get(name, "")
        if text and text not in allowed:
            faults.append(InputError(name, f"{name.capitalize()} “{text[:20]}” is not one of {', '.join(allowed)}."))
        return text

    page = given.get("page", "1")
    if not re.fullmatch(r"[1-9]\d{0,4}", page, re.ASCII):
        faults.append(InputError("page", f"Page “{page[:20]}” is not a page number."))
        page = "1"
    site = given.get("site", "")
    until = day("until")
    search = records.Search(
        site_id=object_id(site, "site") if site else None,
        quantity=choice("quantity", tuple(ON_SHEET)),
        backing=choice("backing", quantity_names.BACKINGS),
        since=day("since"),
        until=until + timedelta(days=1) if until else None,
        page=int(page),
    )
    if faults:
        raise faults[0] if len(faults) == 1 else InputErrors(faults)
    return search
