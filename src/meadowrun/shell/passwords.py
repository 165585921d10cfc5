"""Which passwords are taken: long ones that nobody guesses, and none made of what is known of their
owner."""

import itertools
import re
from collections.abc import Iterable

from meadowrun.base.errors import Invalid
from meadowrun.core.language import Wording

#: Characters of a password: OWASP ASVS 4.0.3, 2.1.1 and 2.1.2.
SHORTEST, LONGEST = 12, 128
#: Of 0 to 4: guessed only by more than a hundred million tries (zxcvbn).
_GOOD_ENOUGH = 3
#: Letters that are left of a password without the words that are known of its owner.
_OF_ITS_OWN = 6
#: Signs that are read as letters, as in “p4$$word”, and how many different ones are: all digits of
#: a number stay what they are.
_FOR_LETTERS, _MOST_SIGNS = "4@8({[<369&#!1/|0$5+7%2", 10
#: What everybody guesses first here.
_OURS = ("meadowrun", "meadow")
#: Longer than this no guess is looked for: a passphrase of that length is not guessed, and looking
#: would take long.
_LOOKED_AT = 72


def _spelled(text: str) -> str:
    """A text with only the first few of the signs that stand for letters: zxcvbn tries every way to
    read them, and more of them would take seconds. Nobody spells a word with so many."""
    others = list(dict.fromkeys(sign for sign in text if sign in _FOR_LETTERS))[_MOST_SIGNS:]
    return text.translate({ord(sign): "¤" for sign in others})


def judge(password: str, about: Iterable[str]) -> None:
    """Raises Invalid for a password that is too short, too long or easily guessed; `about` are
    names and addresses of its owner."""
    if len(password) < SHORTEST:
        raise Invalid(
            Wording(
                "A password needs at least %(shortest)s characters. Three or four words in a "
                "row are easy to remember.",
                shortest=SHORTEST,
            ),
            "password",
        )
    if len(password) > LONGEST:
        raise Invalid(
            Wording("A password has at most %(longest)s characters.", longest=LONGEST), "password"
        )
    parts = [re.findall(r"\w+", text.lower()) for text in about]
    # Each by itself, neighbours run together, and all: farrow, hill, farrowhill.
    known = sorted(
        {
            word
            for several in parts
            for word in (*several, *map("".join, itertools.pairwise(several)), "".join(several))
            if len(word) > 2
        }
    )
    rest = password.lower()
    for word in sorted((*known, *_OURS), key=len, reverse=True):
        rest = rest.replace(word, "")
    if rest != password.lower() and len(re.sub(r"[\W\d_]+", "", rest)) < _OF_ITS_OWN:
        raise Invalid(
            (
                "This password is made of a name or an address that others know. Add words that "
                "have nothing to do with you."
            ),
            "password",
        )
    # Its lists of guesses take 12 MB, which no process needs that sets no password.
    from zxcvbn import zxcvbn

    found = zxcvbn(_spelled(password[:_LOOKED_AT]), user_inputs=[*known, *_OURS])
    if found["score"] >= _GOOD_ENOUGH:
        return
    feedback = found["feedback"]
    hints = [str(hint) for hint in (feedback["warning"], *feedback["suggestions"][:1]) if hint]
    why = " ".join(hint if hint.endswith(".") else f"{hint}." for hint in hints)
    raise Invalid(Wording("This password is easily guessed. %(why)s", why=why).strip(), "password")
