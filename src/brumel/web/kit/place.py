"""Kit's blueprint."""

from __future__ import annotations

from flask import Blueprint

blueprint = Blueprint("kit", __name__, template_folder="templates", url_prefix="/kit")
