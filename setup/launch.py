"""Sets up what a command needs, then becomes that command inside the project's own virtual
environment.

Runs on the standard library alone, because nothing is installed yet when it runs.
"""

import hashlib
import os
import pathlib
import shutil
import subprocess
import sys

ROOT = pathlib.Path(__file__).resolve().parent.parent
VENV = ROOT / ".venv"
NEEDS_SERVER = {"demo", "test", "bench", "shots"}
NEEDS_BROWSER = {"test", "shots"}


def say(text):
    print(f"meadowrun: {text}", file=sys.stderr, flush=True)


def missing_packages(command):
    """Debian packages that this command needs and the machine lacks."""
    wanted = []
    installed = any(pathlib.Path("/usr/lib/postgresql").glob("*/bin/initdb")) or shutil.which(
        "initdb"
    )
    if command in NEEDS_SERVER and not installed:
        wanted.append("postgresql")
    if command in NEEDS_BROWSER:
        wanted += [
            name
            for name, program in (("chromium", "chromium"), ("chromium-driver", "chromedriver"))
            if not shutil.which(program)
        ]
    if not VENV.exists():
        try:
            import ensurepip  # noqa: F401
        except ImportError:
            wanted.append("python3-venv")
    return wanted


def install_packages(names):
    if os.geteuid() != 0:
        sys.exit(
            f"meadowrun: please install from Debian first: sudo apt-get install {' '.join(names)}"
        )
    say(f"installing {', '.join(names)} from Debian's packages …")
    environment = dict(os.environ, DEBIAN_FRONTEND="noninteractive")
    steps = (
        ["apt-get", "update", "-q"],
        ["apt-get", "install", "-y", "-q", "--no-install-recommends", *names],
    )
    for step in steps:
        done = subprocess.run(
            step, env=environment, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
    if done.returncode:
        sys.exit(f"meadowrun: apt-get failed:\n{done.stdout[-2000:]}")


def environment_for(lock):
    """The virtual environment, holding exactly the lock file's packages."""
    stamp = VENV / f".{lock.stem}"
    wanted = hashlib.sha256(lock.read_bytes() + sys.version.encode()).hexdigest()
    if stamp.exists() and stamp.read_text() == wanted:
        return
    if not (VENV / "bin" / "python").exists():
        say("making the virtual environment …")
        subprocess.run([sys.executable, "-m", "venv", str(VENV)], check=True)
    say(f"installing the packages of {lock.name} (about a minute the first time) …")
    done = subprocess.run(
        [
            str(VENV / "bin" / "python"),
            "-m",
            "pip",
            "install",
            "-q",
            "--disable-pip-version-check",
            "--require-hashes",
            "--only-binary",
            ":all:",
            # Of the tests only, pure Python, and published as source alone.
            "--no-binary",
            "dkimpy",
            "-r",
            str(lock),
        ],
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    if done.returncode:
        sys.exit(f"meadowrun: installing {lock.name} failed:\n{done.stdout[-3000:]}")
    stamp.write_text(wanted)


def main():
    arguments = sys.argv[1:] or ["--help"]
    command = arguments[0]
    packages = missing_packages(command)
    if packages:
        install_packages(packages)
    name = "requirements-dev.txt" if command in {"test", "shots"} else "requirements.txt"
    environment_for(ROOT / name)
    python = str(VENV / "bin" / "python")
    settings = dict(os.environ, PYTHONPATH=str(ROOT / "src"), PYTHONUNBUFFERED="1")
    os.execve(python, [python, "-m", "meadowrun", *arguments], settings)


main()
