"""Build the front-end libraries out of node_modules into the source tree and record their versions.

Run by `./brumel vendor` after `npm install`; what it writes is committed, so nothing is fetched at run time.
"""

import json
import os
import shutil
import subprocess
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
MODULES = ROOT / "node_modules"
TARGET = ROOT / "src/brumel/web/static/vendor"
TESTS = ROOT / "tests/browser/vendor"
SOURCES = ROOT / "tools" / "vendor_sources"
FONTS = {"atkinson-hyperlegible-next": ("400", "600", "800"), "atkinson-hyperlegible-mono": ("400", "600")}


def _run(*line: str) -> None:
    env = os.environ | {"NODE_PATH": str(MODULES)}
    subprocess.run([str(MODULES / ".bin" / line[0]), *line[1:]], cwd=ROOT, check=True, env=env)


def main() -> None:
    subprocess.run(["npm", "install", "--no-save", "--silent"], cwd=ROOT, check=True)
    shutil.rmtree(TARGET, ignore_errors=True)
    shutil.rmtree(TESTS, ignore_errors=True)
    (TARGET / "fonts").mkdir(parents=True)
    TESTS.mkdir(parents=True)
    # Bootstrap's partials still use @import; what Sass says of that is Bootstrap's to mend.
    sass = ["sass", "--no-source-map", "--style=compressed", "--quiet", f"--load-path={MODULES}"]
    _run(*sass, str(SOURCES / "bootstrap.scss"), str(TARGET / "bootstrap.css"))
    bundle = ["esbuild", "--bundle", "--minify", "--format=esm", "--legal-comments=inline", "--log-level=warning"]
    _run(*bundle, str(SOURCES / "d3.js"), f"--outfile={TARGET / 'd3.js'}")
    _run(*bundle, str(SOURCES / "uplot.js"), f"--outfile={TARGET / 'uplot.js'}")
    shutil.copy(MODULES / "uplot/dist/uPlot.min.css", TARGET / "uplot.css")
    shutil.copy(MODULES / "idb/build/index.js", TARGET / "idb.js")
    for family, weights in FONTS.items():
        for weight in weights:
            for script in ("latin", "latin-ext"):
                name = f"{family}-{script}-{weight}-normal.woff2"
                shutil.copy(MODULES / "@fontsource" / family / "files" / name, TARGET / "fonts" / name)
    shutil.copy(MODULES / "axe-core/axe.min.js", TESTS / "axe.min.js")
    names = [
        "bootstrap",
        "axe-core",
        "idb",
        "uplot",
        *sorted(p.name for p in MODULES.glob("d3-*")),
        *(f"@fontsource/{f}" for f in FONTS),
    ]
    record = {}
    for name in names:
        package = json.loads((MODULES / name / "package.json").read_text())
        record[name] = {"version": package["version"], "license": package.get("license", "")}
    (TARGET / "versions.json").write_text(json.dumps(record, indent=2, sort_keys=True) + "\n")


if __name__ == "__main__":
    main()
