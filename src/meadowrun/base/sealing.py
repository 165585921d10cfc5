"""What is kept encrypted by the secret of the installation, so that a leaked table or address alone
tells nothing."""

import base64
import functools
import hashlib

from cryptography.fernet import Fernet


@functools.lru_cache(maxsize=16)
def box(secret: str, purpose: str) -> Fernet:
    """Encrypts and decrypts for one purpose."""
    key = hashlib.sha256(f"{purpose}:{secret}".encode()).digest()
    return Fernet(base64.urlsafe_b64encode(key))
