"""What must be read again and yet not lie open in the database: sealed by keys made of those that sign the cookies."""

from __future__ import annotations

import base64
from dataclasses import dataclass
from functools import cached_property

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF

#: What sealed text begins with; anything else is of before there were seals.
MARK = "sealed:"


class Unsealed(Exception):
    """Nothing can be sealed or opened: there is no key, or none of those it was sealed by."""


@dataclass(frozen=True)
class Seal:
    """The keys of a server, the present one first; whoever has the database alone opens nothing."""

    keys: tuple[str, ...] = ()

    @cached_property
    def _lock(self) -> MultiFernet:
        if not self.keys:
            raise Unsealed("there is no key to seal with")
        return MultiFernet([Fernet(_stretched(key)) for key in self.keys])

    def close(self, text: str) -> str:
        """Sealed by the present key. Raises Unsealed where there is none."""
        return MARK + self._lock.encrypt(text.encode()).decode()

    def open(self, kept: str) -> str:
        """What was sealed by any of the keys, or was never sealed. Raises Unsealed."""
        if not kept.startswith(MARK):
            return kept
        try:
            return self._lock.decrypt(kept.removeprefix(MARK)).decode()
        except InvalidToken as error:
            raise Unsealed("it was sealed by a key that is not known here") from error

    def is_of_the_present_key(self, kept: str) -> bool:
        """Whether it needs no sealing anew."""
        return kept.startswith(MARK) and Seal(self.keys[:1]).opens(kept)

    def opens(self, kept: str) -> bool:
        """Whether one of the keys is the right one."""
        try:
            self.open(kept)
        except Unsealed:
            return False
        return True


def _stretched(key: str) -> bytes:
    made = HKDF(algorithm=SHA256(), length=32, salt=None, info=b"brumel: seal").derive(key.encode())
    return base64.urlsafe_b64encode(made)


#: Of a process that has no key: it seals nothing, and opens what was never sealed.
NO_SEAL = Seal()
