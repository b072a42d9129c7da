"""`make update`: make `requirements.lock` anew from the ranges in `pyproject.toml`.

One file with the exact version and the hashes of every part, for Python 3.11 to 3.13 on Linux (x86-64 and arm64), in
three sections: the program, what builds it, and what tests it. `make`, `make install` and `.ci/run` install from it and
from nothing else. It is worked out by uv, which is needed for this alone.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
LOCK = ROOT / "requirements.lock"
HEAD = """\
# Exact parts with their hashes; made by `make update`, read by `make`, `make install` and .ci/run. Not edited by hand.
"""


def resolve(uv: str, wanted: list[str], pinned: str = "") -> str:
    """The exact parts for some wishes, within parts that are settled already."""
    with tempfile.TemporaryDirectory() as there:
        wishes, settled, made = (Path(there) / n for n in ("wishes.in", "settled.txt", "made.txt"))
        wishes.write_text("\n".join(wanted) + "\n", "utf-8")
        settled.write_text(pinned, "utf-8")
        subprocess.run(
            [uv, "pip", "compile", str(wishes), "-c", str(settled), "-o", str(made), "--universal", "--python-version",
             "3.11", "--generate-hashes", "--no-header", "--no-annotate", "--quiet"],
            check=True, cwd=ROOT,
        )  # fmt: skip
        return made.read_text("utf-8")


def entries(text: str) -> list[str]:
    """The requirements of a text with hashes, each with its own lines."""
    found: list[str] = []
    for line in text.splitlines(keepends=True):
        if line[:1].strip() and not line.startswith("#"):
            found.append(line)
        elif found and line.strip():
            found[-1] += line
    return found


def main(uv: str) -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))
    program = resolve(uv, project["project"]["dependencies"])
    build = resolve(uv, [*project["build-system"]["requires"], "editables>=0.5,<1"], program)
    settled = program + build
    tests = resolve(uv, project["project"]["optional-dependencies"]["dev"], settled)
    out = [HEAD]
    known: set[str] = set()
    for name, text in (("program", program), ("build", build), ("tests", tests)):
        out.append(f"# ---- {name} ----\n")
        for entry in entries(text):
            head = entry.split("\\")[0].strip()
            # a part of the program that builds or tests need too is listed once; the build is installed by itself
            if head not in known or name == "build":
                out.append(entry)
            known.add(head)
    LOCK.write_text("".join(out), "utf-8")
    print(f"{len(known)} parts in {LOCK.name}")


if __name__ == "__main__":
    main(sys.argv[1])
