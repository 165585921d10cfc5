"""A spam filter that happens to be installed: SpamAssassin from Debian's packages, run here,
without any network."""

import dataclasses
import re
import shutil
import subprocess

SECONDS = 40


@dataclasses.dataclass(frozen=True, slots=True)
class Judgement:
    """What the filter said: its points, where it draws the line, and each rule with its points and
    its words."""

    points: float
    limit: float
    rules: tuple[tuple[float, str, str], ...]


def installed() -> bool:
    return shutil.which("spamassassin") is not None


def judge(mail: bytes) -> Judgement | None:
    """The filter's judgement of a mail's bytes; None where it is not installed, or says nothing in
    time."""
    if not installed():
        return None
    try:
        done = subprocess.run(
            ["spamassassin", "--local", "--test-mode", "--cf", "bayes_auto_learn 0"],
            input=mail,
            capture_output=True,
            timeout=SECONDS,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    return read(done.stdout.decode(errors="replace"))


def read(report: str) -> Judgement | None:
    """A report as the filter prints it in test mode, read."""
    head = re.search(r"\(\s*(-?[\d.]+) points, ([\d.]+) required\)", report)
    if not head:
        return None
    rules = []
    for points, name, words in re.findall(
        r"^\s*(-?\d+\.\d+)\s+([A-Z][A-Z0-9_]+)\s+(.*(?:\n\s{20,}\S.*)*)$", report, re.MULTILINE
    ):
        rules.append((float(points), name, " ".join(words.split())))
    return Judgement(float(head.group(1)), float(head.group(2)), tuple(rules))
