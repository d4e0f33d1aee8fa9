"""The store's JSON: one canonical form, so that a document can be hashed and a changed byte be seen."""

from __future__ import annotations

import hashlib
import json
from itertools import pairwise
from typing import Any

import pydantic_core

from pannier.errors import DamageError, NotFoundError
from pannier.storage.protocol import MOST_DOCUMENT_BYTES, Storage
from pannier.store.shapes import check_shape

Document = dict[str, Any]

SEAL = "sha256"


def canonical(document: Document) -> bytes:
    """UTF-8, keys sorted, two blanks of indentation, one newline at the end."""
    return (json.dumps(document, sort_keys=True, indent=2, ensure_ascii=False, allow_nan=False) + "\n").encode()


def digest(content: bytes) -> str:
    return hashlib.sha256(content).hexdigest()


def sealed(document: Document) -> bytes:
    """The canonical form with the digest of the rest in its field "sha256": for files that are not named by their digest."""
    return canonical(document | {SEAL: digest(canonical(document))})


def unsealed(content: bytes, name: str) -> Document:
    """The document in sealed bytes, without its seal. Raises DamageError where a byte differs, or it is none such."""
    document = _canonically(content, name)
    seal, rest = document.pop(SEAL, None), canonical(document)
    if seal != digest(rest):
        raise DamageError(f"{name} is damaged: its seal does not fit its content", file=name)
    check_shape(rest, name)
    return document


def parsed(content: bytes, name: str) -> Document:
    """The document in bytes that are named by their digest. Raises DamageError where it is no such document."""
    document = _canonically(content, name)
    check_shape(content, name)
    return document


def _canonically(content: bytes, name: str) -> Document:
    """A JSON object, as it would be written anew: so no field is there twice, and no text is none."""
    if len(content) > MOST_DOCUMENT_BYTES:
        raise DamageError(f"{name} is damaged: {len(content):,} bytes are more than a document has", file=name)
    try:
        document, is_plain = _read(content)
        is_canonical = isinstance(document, dict) and (is_plain or content == canonical(document))
    except (ValueError, RecursionError):  # no JSON, a number of thousands of digits, half a letter, too deep
        raise DamageError(f"{name} is damaged: it is not JSON", file=name) from None
    if not is_canonical:
        raise DamageError(f"{name} is damaged: it is not as it was written", file=name)
    return dict(document)


def _read(content: bytes) -> tuple[Any, bool]:
    """What JSON says, and whether it is seen quickly to stand as `canonical` writes it; else that writer has to tell.

    Another writer, in machine code, writes it alike, but for numbers with exponents, once keys are seen to be in order.
    """
    odd: list[object] = []

    def in_order(pairs: list[tuple[str, Any]]) -> Document:
        keys = [key for key, _ in pairs]
        if any(later <= key for key, later in pairwise(keys)):
            odd.append(keys)
        return dict(pairs)

    def number(text: str) -> float:
        if text != repr(float(text)) or "e" in text:
            odd.append(text)
        return float(text)

    document = json.loads(content, object_pairs_hook=in_order, parse_float=number, parse_constant=odd.append)
    try:
        return document, not odd and content == pydantic_core.to_json(document, indent=2) + b"\n"
    except ValueError:
        return document, False


def content_named(storage: Storage, file: str, wanted: str) -> bytes:
    """A file that is named by its digest. Raises DamageError."""
    try:
        content = storage.read(file)
    except NotFoundError:
        raise DamageError(f"{file} is missing; bring it back from a copy of the store", file=file) from None
    if digest(content) != wanted:
        raise DamageError(f"{file} is damaged: its digest is not its name", file=file)
    return content
