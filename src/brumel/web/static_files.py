"""Styles, scripts and fonts: under a version in their path, so that a browser keeps them for ever, and compressed ahead."""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import tempfile
from pathlib import Path
from typing import Any

from flask import Flask, send_from_directory
from markupsafe import Markup
from whitenoise import WhiteNoise
from whitenoise.compress import Compressor

from brumel.store.cluster import data_home
from brumel.web.root import root

FOLDER = Path(__file__).with_name("static")
#: Relative imports of a plain module.
IMPORT = re.compile(r"""^(?:import|export)[^"'(;]*["'](\.[^"']+)["']""", re.MULTILINE)


def version() -> str:
    """A digest of every static file: another file, another path."""
    digest = hashlib.sha256()
    for path in sorted(p for p in FOLDER.rglob("*") if p.is_file()):
        digest.update(path.relative_to(FOLDER).as_posix().encode() + b"\0" + path.read_bytes() + b"\0")
    return digest.hexdigest()[:12]


def _compressed(of: str) -> Path:
    """A copy of the static files with compressed twins, made once a version; the bare files where none can be made."""
    target = data_home() / "static" / of
    if target.is_dir():
        return target
    try:
        target.parent.mkdir(parents=True, exist_ok=True)
        making = Path(tempfile.mkdtemp(dir=target.parent))
        shutil.copytree(FOLDER, making, dirs_exist_ok=True)
        compressor = Compressor(quiet=True, use_brotli=True)
        for path in [p for p in making.rglob("*") if p.is_file() and compressor.should_compress(p.name)]:
            compressor.compress(str(path))
        making.chmod(0o755)
        try:
            making.rename(target)
        except OSError:  # another worker was first
            shutil.rmtree(making, ignore_errors=True)
        return target
    except OSError:
        return FOLDER


def _secure(headers: Any, _path: str, _url: str) -> None:
    headers["X-Content-Type-Options"] = "nosniff"
    headers["Cross-Origin-Opener-Policy"] = "same-origin"


def _needed_by(name: str, seen: dict[str, None]) -> dict[str, None]:
    for relative in IMPORT.findall((FOLDER / name).read_text("utf-8")):
        other = os.path.normpath(os.path.join(os.path.dirname(name), relative))
        if other not in seen:
            seen[other] = None
            _needed_by(other, seen)
    return seen


def init(app: Flask) -> None:
    """Serve them before the application is asked, and offer `module(name)` to the templates."""
    prefix = str(app.static_url_path).strip("/") + "/"
    app.wsgi_app = WhiteNoise(  # type: ignore[method-assign]
        app.wsgi_app,
        root=str(_compressed(prefix.split("/")[1])),
        prefix=prefix,
        max_age=31_536_000,
        immutable_file_test=lambda path, url: True,
        add_headers_function=_secure,
    )
    needed: dict[str, list[str]] = {}

    def module(name: str) -> Markup:
        """A module's script tag, and its imports asked for at once instead of one after another."""
        if name not in needed:
            needed[name] = list(_needed_by(name, {}))
        links = Markup("").join(
            Markup('<link rel="modulepreload" href="{}">').format(f"{root()}/{prefix}{each}") for each in needed[name]
        )
        return links + Markup('<script type="module" src="{}"></script>').format(f"{root()}/{prefix}{name}")

    app.add_template_global(module, "module")

    @app.get("/static/<path:name>", endpoint="static_of_another_version")
    def other(name: str) -> Any:
        """A page that was made by another version asks by that one's path, or by none."""
        plain = re.sub(r"^[0-9a-f]{12}/", "", name)
        return send_from_directory(FOLDER, plain, max_age=0)
