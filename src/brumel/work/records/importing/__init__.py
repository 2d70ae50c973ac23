"""Bringing in what a practice had before, from tables: sites, kit, solutions and readings, checked whole first."""

from brumel.work.records.importing.bringing import (
    KINDS,
    Preview,
    drop,
    find_import,
    imports,
    keep_mapping,
    preview,
    take_back,
    upload,
    write,
)
from brumel.work.records.importing.mapping import Mapping, guess

__all__ = [
    "KINDS",
    "Mapping",
    "Preview",
    "drop",
    "find_import",
    "guess",
    "imports",
    "keep_mapping",
    "preview",
    "take_back",
    "upload",
    "write",
]
