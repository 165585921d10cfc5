"""What a gateway's answer over HTTP says: whether it is about us, or asks for patience; anything
else is about whom it was for."""

#: About us, or about the address the settings name: not authorised, not paid, not allowed, not
#: there; or it is elsewhere by now (3xx),
#: where nothing of ours is sent after it.
_UNWELCOME = frozenset({401, 402, 403, 404, 405, 407})
_LATER = frozenset({408, 425, 429})


def is_about_us(code: int) -> bool:
    return code in _UNWELCOME or 300 <= code < 400


def is_for_later(code: int) -> bool:
    return code in _LATER or code >= 500
