"""Which Chromium the browser tests, pictures and benchmarks are driven with."""

from __future__ import annotations

import os
import shutil


def chromium_path() -> str | None:
    """`BRUMEL_CHROMIUM`, else Debian's headless shell, which starts and paints sooner, else its whole Chromium."""
    given = os.environ.get("BRUMEL_CHROMIUM")
    return given or shutil.which("chromium-headless-shell") or shutil.which("chromium")
