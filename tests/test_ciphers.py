"""AES and RC4 of our own, where the package for them is not installed: the published examples, the package's own answers, documents that open for everybody."""

from __future__ import annotations

import io
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pypdf import PdfReader, PdfWriter

from rustfern.core.model import State
from rustfern.formats import registry as formats
from rustfern.formats.pages import ciphers

PLAIN, START = bytes.fromhex("00112233445566778899aabbccddeeff"), bytes(16)


@pytest.mark.parametrize(
    ("size", "packed"),
    [(16, "69c4e0d86a7b0430d8cdb78070b4c55a"), (24, "dda97ca4864cdfe06eaf70a0ec0d7191"), (32, "8ea2b7ca516745bfeafc49904b496089")],
)  # fmt: skip
def test_the_examples_of_the_standard(size: int, packed: str) -> None:
    """FIPS 197, appendix C; RFC 6229, section 2."""
    key = bytes(range(size))
    assert ciphers.own_aes_encrypt(key, START, PLAIN).hex() == packed
    assert ciphers.own_aes_decrypt(key, START, bytes.fromhex(packed)) == PLAIN
    assert ciphers.own_rc4(bytes.fromhex("0102030405"), bytes(16)).hex() == "b2396305f03dc027ccc3524a0a1118a8"


@given(st.sampled_from([16, 24, 32]), st.binary(min_size=48, max_size=48), st.binary(max_size=200))
def test_the_same_as_the_package(size: int, secret: bytes, data: bytes) -> None:
    pytest.importorskip("cryptography")
    key, start, whole = secret[:size], secret[32:], data[: len(data) // 16 * 16]
    assert ciphers.own_aes_encrypt(key, start, whole) == ciphers.aes_encrypt(key, start, whole)
    assert ciphers.own_aes_decrypt(key, start, whole) == ciphers.aes_decrypt(key, start, whole)
    assert ciphers.own_rc4(key[:16], data) == ciphers.rc4(key[:16], data)


@pytest.mark.parametrize(
    "wrong", [(b"short", START, PLAIN), (bytes(16), b"short", PLAIN), (bytes(16), START, b"no block")]
)
def test_what_is_no_key_and_no_block_is_refused(wrong: tuple[bytes, bytes, bytes]) -> None:
    for work in (ciphers.own_aes_decrypt, ciphers.own_aes_encrypt, ciphers.aes_decrypt, ciphers.aes_encrypt):
        with pytest.raises(ValueError, match=r"AES|key"):
            work(*wrong)
    with pytest.raises(ValueError, match="key"):
        ciphers.own_rc4(b"", b"x")


@pytest.mark.parametrize("algorithm", ["RC4-40", "RC4-128", "AES-128", "AES-256-R5", "AES-256"])
@pytest.mark.parametrize("has_package", [True, False])
def test_a_document_that_opens_for_everybody(
    algorithm: str, has_package: bool, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Its contents are read to their end either way; damage in them is found."""
    pytest.importorskip("cryptography")
    made, out = PdfWriter(), io.BytesIO()
    made.add_blank_page(200, 200)
    made.add_attachment("plan.txt", b"Mooring plan, spring. " * 400)
    made.encrypt("", "the owner's", algorithm=algorithm)
    made.write(out)
    assert PdfReader(io.BytesIO(out.getvalue())).is_encrypted
    if not has_package:
        for name in (
            "cryptography",
            "cryptography.hazmat.primitives.ciphers",
            "cryptography.hazmat.decrepit.ciphers.algorithms",
        ):
            monkeypatch.setitem(sys.modules, name, None)
    found = formats.check(io.BytesIO(out.getvalue()), "plan.pdf")
    assert found.state is State.INTACT, found.reason
