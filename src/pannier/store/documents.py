"""The store's JSON: one canonical form, so that a document can be hashed and a changed byte be seen."""

from __future__ import annotations

import hashlib
import json
from typing import Any

from pannier.errors import DamageError, NotFoundError
from pannier.storage.protocol import Storage

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
    """The document in sealed bytes, without its seal. Raises DamageError where one byte differs."""
    document = parsed(content, name)
    seal = document.pop(SEAL, None)
    if seal != digest(canonical(document)) or content != sealed(document):
        raise DamageError(f"{name} is damaged: its seal does not fit its content", file=name)
    return document


def parsed(content: bytes, name: str) -> Document:
    try:
        document = json.loads(content)
    except (UnicodeDecodeError, json.JSONDecodeError):
        raise DamageError(f"{name} is damaged: it is not JSON", file=name) from None
    if not isinstance(document, dict):
        raise DamageError(f"{name} is damaged: it is not a JSON object", file=name)
    return document


def content_named(storage: Storage, file: str, wanted: str) -> bytes:
    """A file that is named by its digest. Raises DamageError."""
    try:
        content = storage.read(file)
    except NotFoundError:
        raise DamageError(f"{file} is missing; bring it back from a copy of the store", file=file) from None
    if digest(content) != wanted:
        raise DamageError(f"{file} is damaged: its digest is not its name", file=file)
    return content
