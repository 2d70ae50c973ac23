"""How much of core the tests hold: mutants of it are sampled, and the share that a test kills is printed.

The mutants are mutmut's: one operator, figure, name or branch of one function changed at a time. One that changes
nothing but the wording of a sentence is left out, as wording is not what core's tests are for. The sample is drawn by a
seed, so that a second run after a better test shows the same mutants.
"""

from __future__ import annotations

import argparse
import random
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
TESTS = ["tests/core", "tests/methods"]
CONFIG = f"""
[tool.mutmut]
source_paths = ["src"]
only_mutate = ["src/brumel/core/*"]
also_copy = ["docs", "benchmarks"]
pytest_add_cli_args_test_selection = {TESTS}
"""
#: A literal that holds a space or a full stop at its end is a sentence.
SENTENCE = re.compile(r"""f?(?P<quote>["'])[^"']*[ ][^"']*(?P=quote)""")


def _mutmut(where: Path, *line: str) -> str:
    command = [sys.executable, "-m", "mutmut", *line]
    return subprocess.run(command, cwd=where, check=False, capture_output=True, text=True).stdout


def _copy(to: Path) -> None:
    """What git knows of the tree, as it stands."""
    listed = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, check=True, capture_output=True, text=True).stdout
    for name in filter(None, listed.split("\0")):
        if (ROOT / name).is_file():
            (to / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, to / name)
    with (to / "pyproject.toml").open("a") as file:
        file.write(CONFIG)


def _states(where: Path) -> dict[str, str]:
    lines = (line.strip().rpartition(": ") for line in _mutmut(where, "results", "--all", "true").splitlines())
    return {name: state for name, _, state in lines if name}


def is_wording(diff: str) -> bool:
    """Whether a mutant differs from the source in the text of a sentence alone."""
    minus = [line[1:] for line in diff.splitlines() if line.startswith("-") and not line.startswith("---")]
    plus = [line[1:] for line in diff.splitlines() if line.startswith("+") and not line.startswith("+++")]
    if len(minus) != len(plus):
        return False
    return all(
        SENTENCE.search(a) and SENTENCE.sub("", a) == SENTENCE.sub("", b) for a, b in zip(minus, plus, strict=True)
    )


def sample(where: Path, names: list[str], size: int, seed: int) -> Iterator[str]:
    """Names of mutants, drawn at random, without those of wording."""
    drawn = sorted(names)
    random.Random(seed).shuffle(drawn)  # noqa: S311 - a sample, not a secret
    taken = 0
    for name in drawn:
        if taken == size:
            return
        if not is_wording(_mutmut(where, "show", name)):
            taken += 1
            yield name


def main() -> int:
    """Draw, run, print the survivors and the share killed."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--sample", type=int, default=200)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="brumel-mutants-") as folder:
        where = Path(folder)
        _copy(where)
        print("· making the mutants and running the tests once without any", flush=True)
        _mutmut(where, "run", "none-of-this-name")
        chosen = list(sample(where, list(_states(where)), options.sample, options.seed))
        print(f"· {len(chosen)} mutants", flush=True)
        words = _mutmut(where, "run", *chosen)
        states = _states(where)
        if any(states[name] == "not checked" for name in chosen):
            print(f"{words[-2000:]}\nThe mutants were not run: the tests do not pass without one.", file=sys.stderr)
            return 1
        alive = [name for name in chosen if states[name] not in ("killed", "timeout", "suspicious")]
        for name in sorted(alive):
            print(f"\n{states[name]}: {name}\n{_mutmut(where, 'show', name)}")
    print(f"{len(chosen) - len(alive)} of {len(chosen)} mutants killed: {1 - len(alive) / len(chosen):.0%}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
