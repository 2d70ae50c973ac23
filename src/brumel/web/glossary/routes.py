"""The glossary: the words of the work, each in one sentence."""

from __future__ import annotations

from typing import Any

from flask import Blueprint, render_template

from brumel.methods.glossary import anchor, load_glossary

blueprint = Blueprint("glossary", __name__, template_folder="templates", url_prefix="/glossary")


@blueprint.get("")
def show() -> Any:
    """Every word with its sentence."""
    return render_template("glossary/show.html", words=load_glossary(), anchor=anchor)
