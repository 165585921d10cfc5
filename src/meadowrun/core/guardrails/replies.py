"""What somebody means who answers a text message: no more of them, or some again.

To stop is taken from every usual way of saying it, to begin only from a word that says so: a “yes”
is no consent when nobody asked.
"""

import re
import unicodedata

_STOPPING = """
stop stopp stops stopall stopit end quit cancel unsubscribe unsub optout remove arret arreter
arretez desabonner desabonnement stoppen abmelden abbestellen halt basta baja parar pare sair
cancelar cancella annulla afmelden avsluta sluta nok
"""
_SURROUNDING = """
please pls plz thanks thank you thx now sorry hi hello hey ok just kindly immediately again ever it
this these that me my texting text texts textings message messages messaging msg msgs sms sending
send contacting contact writing write number list from to the all your of i want would like and us
bitte danke svp merci por favor nu tack off out sent phone
"""
#: Any of these, alone or with words that only surround it, ends text messages.
_STOP = frozenset(_STOPPING.split())
#: Words in which a wish to stop is wrapped.
_AROUND = frozenset(_SURROUNDING.split())
#: Wishes that are said without any of the words above.
_SAID = re.compile(
    r"\b(?:no more|(?:do not|dont|never) (?:text|message|contact|write|send))\b(?! "
    r"(?:before|after|until|till|on|at))"
    r"|\b(?:take|get) me off\b|\bleave me alone\b|\bopt(?:ing)? (?:me )?out\b|\bplus de "
    r"(?:sms|messages)\b|\bkeine (?:sms|nachrichten) mehr\b"
)
_NOT = re.compile(
    r"\b(?:do not|dont|never|not|wont|didnt|cant|without) (?:\w+ "
    r")?(?:stop|end|quit|cancel|unsubscribe|opt)\b"
)
_START = frozenset({"start", "unstop", "restart", "start again", "subscribe"})
#: A first word that is a sentence of its own: “STOP. I have asked before.”
_FIRST = re.compile(r"\s*(?:stop|unsubscribe)\s*[.!,;:\n]", re.IGNORECASE)


def _words(text: str) -> list[str]:
    """Small letters without accents, full-width forms as ordinary ones, apostrophes gone (Unicode
    NFKD)."""
    plain = unicodedata.normalize("NFKD", text).casefold()
    plain = (
        "".join(c for c in plain if not unicodedata.combining(c)).replace("'", "").replace("’", "")
    )
    return re.findall(r"[^\W_]+", plain)


def meaning(text: str) -> str:
    """“stop”, “start”, or nothing that concerns what somebody gets."""
    words = _words(text)
    said = " ".join(words)
    if said in _START:
        return "start"
    if not words or _NOT.search(said):
        return ""
    if _SAID.search(said) or _FIRST.match(unicodedata.normalize("NFKC", text)):
        return "stop"
    left = [word for word in words if word not in _AROUND]
    return "stop" if left and all(word in _STOP for word in left) else ""
