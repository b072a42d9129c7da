"""`make install` and `make uninstall`: the program below the folder PREFIX, and out of it again, and nothing else.

What is put there is listed, file by file, in `share/welvo/put-in-place.json`; only what stands in that list is ever
removed, and a folder only when it was made by the installation and is empty. So a PREFIX that holds other things, or
that was mistyped, loses nothing. Needs nothing but Python's own library.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
LIST = "share/welvo/put-in-place.json"
PROGRAM = "share/welvo/program"
COMMAND = "bin/welvo"


def main(arguments: list[str]) -> int:
    if arguments not in (["install"], ["uninstall"]):
        return fail("say install or uninstall")
    prefix, why = read_prefix(os.environ.get("PREFIX", ""))
    if prefix is None:
        return fail(why)
    try:
        return install(prefix) if arguments == ["install"] else uninstall(prefix)
    except OSError as e:
        return fail(f"{e.filename or prefix} cannot be written: {e.strerror}.")
    except subprocess.CalledProcessError as e:
        return fail(f"this step failed, and nothing more was done: {' '.join(map(str, e.cmd[:6]))}")


def fail(words: str) -> int:
    print(f"welvo: {words}", file=sys.stderr)
    return 2


def read_prefix(text: str) -> tuple[Path | None, str]:
    """The folder to install below, or why it is none."""
    if not text.strip():
        return None, "PREFIX is empty. Say a folder, such as PREFIX=$HOME/.local."
    if any(ord(c) < 32 for c in text) or ":" in text:
        return None, "PREFIX holds a colon or a line break, which no search path can hold. Say another folder."
    path = Path(text).expanduser()
    if not path.is_absolute() or ".." in path.parts:
        return None, f"PREFIX=“{text}” is no whole path from the root. Say one that begins with / and has no “..”."
    if path == Path("/"):
        return None, "PREFIX=/ would put Welvo into the system itself. Say a folder of your own, or /usr/local."
    if path.exists() and not path.is_dir():
        return None, f"PREFIX=“{text}” is a file, not a folder."
    return path, ""


# ---- putting it there


def install(prefix: Path) -> int:
    former = read_list(prefix)
    folders = set(former["folders"]) | make_folders(prefix, prefix / PROGRAM) | make_folders(prefix, prefix / "bin")
    program = prefix / PROGRAM
    command = prefix / COMMAND
    if (command.exists() or command.is_symlink()) and not leads_to(command, program):
        return fail(f"{command} is there already and is not ours. Move it away, or say another PREFIX.")
    run(sys.executable, "-m", "venv", str(program))
    # from here on what is there is listed whatever happens, so that it can be taken out
    try:
        pip = [str(program / "bin" / "python"), "-m", "pip", "install", "--quiet", "--disable-pip-version-check"]
        with tempfile.TemporaryDirectory(prefix="welvo-install-") as there:
            parts, wheels = Path(there) / "parts.txt", Path(there) / "wheels"
            parts.write_text(locked_parts("program"), "utf-8")
            run(*pip, "--require-hashes", "-r", str(parts))
            build_wheel(Path(there) / "build", wheels)
            (wheel,) = wheels.glob("*.whl")
            run(*pip, "--no-deps", "--no-index", "--force-reinstall", str(wheel))
        if not command.is_symlink():
            command.symlink_to(program / "bin" / "welvo")
    finally:
        write_list(prefix, folders)
    run(str(command), "desktop", "install", "--prefix", str(prefix))
    print(f"Welvo is in {prefix}. Start it from the menu of programs, or as {command}")
    return 0


def build_wheel(folder: Path, wheels: Path) -> None:
    """Build the wheel with the locked parts of the build, in an environment that goes again."""
    run(sys.executable, "-m", "venv", str(folder))
    pip = [str(folder / "bin" / "python"), "-m", "pip"]
    parts = folder / "parts.txt"
    parts.write_text(locked_parts("build"), "utf-8")
    quiet = ["--quiet", "--disable-pip-version-check"]
    run(*pip, "install", *quiet, "--require-hashes", "-r", str(parts))
    run(*pip, "wheel", *quiet, "--no-deps", "--no-build-isolation", "--wheel-dir", str(wheels), str(ROOT))


def locked_parts(section: str) -> str:
    """One section of the lock file: `program`, `build` or `tests`."""
    text = (ROOT / "requirements.lock").read_text("utf-8")
    sections = dict(part.split(" ----\n", 1) for part in text.split("# ---- ")[1:])
    return sections[section]


def run(*words: str) -> None:
    home = {k: v for k, v in os.environ.items() if k not in ("PYTHONHOME", "PYTHONPATH", "VIRTUAL_ENV")}
    subprocess.run(words, check=True, env=home)


def make_folders(prefix: Path, folder: Path) -> set[str]:
    """Make a folder; gives those that were not there, as places below the prefix (“.” is the prefix itself)."""
    missing = [p for p in (folder, *folder.parents) if not p.exists()]
    folder.mkdir(parents=True, exist_ok=True)
    return {str(p.relative_to(prefix)) for p in missing if p == prefix or prefix in p.parents}


def leads_to(link: Path, program: Path) -> bool:
    return link.is_symlink() and program in (link.parent / os.readlink(link)).parents


# ---- the list


def read_list(prefix: Path) -> dict[str, list[str]]:
    try:
        said = json.loads((prefix / LIST).read_text("utf-8"))
        return {"files": [str(p) for p in said["files"]], "folders": [str(p) for p in said["folders"]]}
    except (OSError, ValueError, KeyError, TypeError):
        return {"files": [], "folders": []}


def write_list(prefix: Path, folders: set[str]) -> None:
    """List all that stands in the program's folder: it was made by the installation."""
    files, inside = [COMMAND], set()
    for at, names, leaves in os.walk(prefix / PROGRAM):
        here = Path(at)
        inside.add(str(here.relative_to(prefix)))
        files += [str((here / n).relative_to(prefix)) for n in leaves]
        files += [str((here / n).relative_to(prefix)) for n in names if (here / n).is_symlink()]
    text = json.dumps({"files": sorted(files), "folders": sorted(folders | inside)}, indent=0, ensure_ascii=True)
    (prefix / LIST).write_text(text, "utf-8")


# ---- taking it out


def uninstall(prefix: Path) -> int:
    if not (prefix / LIST).is_file():
        return fail(
            f"No Welvo that “make install” put there is below {prefix}: {LIST} is missing. Nothing was removed."
        )
    listed = read_list(prefix)
    if not listed["files"]:
        return fail(f"{prefix / LIST} cannot be read, so nobody knows what was put there. Nothing was removed.")
    program = prefix / PROGRAM
    own = program / "bin" / "welvo"
    if own.exists():
        run(str(own), "desktop", "uninstall", "--prefix", str(prefix))
    if leads_to(prefix / COMMAND, program):
        (prefix / COMMAND).unlink()
    for place in listed["files"]:
        if place.startswith(PROGRAM + "/") and ".." not in Path(place).parts:
            (prefix / place).unlink(missing_ok=True)
    remove_compiled(prefix, listed["folders"])
    (prefix / LIST).unlink()
    for place in sorted(listed["folders"], key=lambda p: (p != ".", len(p)), reverse=True):
        if not Path(place).is_absolute() and ".." not in Path(place).parts:
            try:
                (prefix / place).rmdir()
            except OSError:
                continue  # somebody else's files are in it, or it is gone
    left = [p for p in program.rglob("*") if not p.is_dir()] if program.is_dir() else []
    if left:
        print(f"{len(left)} files in {program} were not put there by the installation and stay.")
    print(f"Welvo is gone from {prefix}.")
    return 0


def remove_compiled(prefix: Path, folders: list[str]) -> None:
    """What Python compiled later, while the program ran, in folders that are ours."""
    for place in folders:
        if place.startswith(PROGRAM + "/") and ".." not in Path(place).parts:
            compiled = prefix / place / ("" if place.endswith("__pycache__") else "__pycache__")
            if compiled.is_dir() and not compiled.is_symlink():
                for file in compiled.glob("*.pyc"):
                    file.unlink()
                try:
                    compiled.rmdir()
                except OSError:
                    continue


if __name__ == "__main__":
    raise SystemExit(main(sys.argv[1:]))
