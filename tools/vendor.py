"""Copy the front-end libraries out of node_modules into the source tree and record their versions.

Run by `./brumel vendor` after `npm install`; what it writes is committed, so nothing is fetched at run time.
"""

import json
import re
import shutil
import subprocess
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
MODULES = ROOT / "node_modules"
TARGET = ROOT / "src/brumel/web/static/vendor"
TESTS = ROOT / "tests/browser/vendor"
# In the order in which they need one another.
D3 = (
    "d3-array",
    "d3-color",
    "d3-format",
    "d3-interpolate",
    "d3-time",
    "d3-time-format",
    "d3-scale",
    "d3-path",
    "d3-shape",
)
FONTS = {"atkinson-hyperlegible-next": ("400", "600", "800"), "atkinson-hyperlegible-mono": ("400", "600")}


def main() -> None:
    subprocess.run(["npm", "install", "--no-save", "--silent"], cwd=ROOT, check=True)
    shutil.rmtree(TARGET, ignore_errors=True)
    shutil.rmtree(TESTS, ignore_errors=True)
    (TARGET / "fonts").mkdir(parents=True)
    TESTS.mkdir(parents=True)
    style = (MODULES / "bootstrap/dist/css/bootstrap.min.css").read_text()
    (TARGET / "bootstrap.min.css").write_text(re.sub(r"/\*# sourceMappingURL=.*?\*/", "", style))
    parts = [(MODULES / name / "dist" / f"{name}.min.js").read_text() for name in D3]
    (TARGET / "d3-parts.min.js").write_text("\n".join(parts))
    shutil.copy(MODULES / "idb/build/index.js", TARGET / "idb.js")
    for family, weights in FONTS.items():
        for weight in weights:
            for script in ("latin", "latin-ext"):
                name = f"{family}-{script}-{weight}-normal.woff2"
                shutil.copy(MODULES / "@fontsource" / family / "files" / name, TARGET / "fonts" / name)
    shutil.copy(MODULES / "axe-core/axe.min.js", TESTS / "axe.min.js")
    names = ["bootstrap", "axe-core", "idb", *D3, *(f"@fontsource/{f}" for f in FONTS)]
    record = {}
    for name in names:
        package = json.loads((MODULES / name / "package.json").read_text())
        record[name] = {"version": package["version"], "license": package.get("license", "")}
    (TARGET / "versions.json").write_text(json.dumps(record, indent=2, sort_keys=True) + "\n")


if __name__ == "__main__":
    main()
