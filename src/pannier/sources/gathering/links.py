"""Links and the names under which their pictures are kept: no credentials, nothing that a disk or a shell stumbles over."""

from __future__ import annotations

import hashlib
import posixpath
import re
import unicodedata
from collections.abc import Callable, Iterable, Iterator
from urllib.parse import parse_qsl, unquote, urlencode, urlsplit, urlunsplit

LONGEST_NAME_BYTES = 120
HIDDEN = "hidden"

_SECRETS = re.compile(
    r"(^|[-_.])(token|secret|password|passwd|pwd|passphrase|signature|sig|auth|authorization|credential|credentials|apikey"
    r"|api[-_]key|access[-_]key|sessionid|session|jsessionid|phpsessid|sid|ticket)($|[-_.])",
    re.IGNORECASE,
)
# names of what may be a credential, or tell one picture from another
_PERHAPS = re.compile("^(key|code)$", re.IGNORECASE)
_PARAMETER = re.compile(r";([^;/=?#]+)=([^;/?#]*)")
# what Windows refuses, and what is special to shells or globs, becomes "_"
# a folder that is called so would stand in the way of a picture
_LIKE_A_PICTURE = re.compile(r"\.([A-Za-z0-9]{1,5})$")
_ODD = re.compile(r'[\x00-\x1f\x7f<>:"|?*\\`$&;!\'(){}\[\]~#%]+')
_RESERVED = re.compile(r"^(con|prn|aux|nul|com[0-9]|lpt[0-9])$", re.IGNORECASE)


def without_credentials(link: str) -> str:
    """The link without user name and password, and with `hidden` for values that look like credentials, `;name=` too."""
    return _hidden(link, lambda name: bool(_SECRETS.search(name) or _PERHAPS.search(name)))


def _hidden(link: str, is_secret: Callable[[str], bool]) -> str:
    if "://" not in link:
        return link
    try:
        parts = urlsplit(link)
        host = parts.netloc.rpartition("@")[2]
        query = parts.query
        if any(is_secret(name) for name, _ in parse_qsl(query, keep_blank_values=True)):
            pairs = parse_qsl(query, keep_blank_values=True)
            query = urlencode([(name, HIDDEN if is_secret(name) else value) for name, value in pairs])
        path = _PARAMETER.sub(lambda found: f";{found[1]}={HIDDEN}" if is_secret(found[1]) else found[0], parts.path)
        return urlunsplit((parts.scheme, host, path, query, ""))
    except ValueError:
        return re.sub(r"//[^/@]*@", "//", link).partition("?")[0]


def without_credentials_in(text: str) -> str:
    """A text of any kind whose links have no credentials."""
    return re.sub(r"[A-Za-z][A-Za-z0-9+.-]*://[^\s<>\"']+", lambda found: without_credentials(found[0]), text)


def identity(link: str) -> str:
    """What a link is told by in the journal: 32 digits, not made of its credentials, but of what may tell pictures apart."""
    plain = _hidden(link, lambda name: bool(_SECRETS.search(name)))
    return hashlib.sha256(plain.encode("utf-8", "surrogatepass")).hexdigest()[:32]


def host_of(link: str) -> str:
    """The host that a link asks, with its port; empty where it names none."""
    try:
        return urlsplit(link).netloc.rpartition("@")[2].lower()
    except ValueError:
        return ""


def name_in(link: str) -> str:
    """The last part of a link's path, as a name without an ending."""
    try:
        path = unquote(urlsplit(link).path)
    except ValueError:
        path = ""
    return _without_ending(posixpath.basename(path.rstrip("/")).partition(";")[0])


def safe_path(name: str) -> str:
    """A name, or a path with `/`, that every disk takes: parts cleaned, none leads up, none too long. Never empty."""
    *folders, last = [_safe(part) for part in name.replace("\\", "/").split("/")]
    parts = [_LIKE_A_PICTURE.sub(r"_\1", folder) for folder in folders] + [last]
    return "/".join(part for part in parts if part) or "picture"


def unlike(names: Iterable[str], taken: set[str]) -> Iterator[str]:
    """Each name, with a number behind it where it is taken already, in any case. Adds to `taken`."""
    for name in names:
        number, numbered = 1, name
        while numbered.casefold() in taken:
            number += 1
            numbered = f"{name}-{number}"
        taken.add(numbered.casefold())
        yield numbered


def _safe(part: str) -> str:
    text = _ODD.sub("_", unicodedata.normalize("NFC", part)).strip(" .")
    text = re.sub(r"\s+", " ", text).removeprefix("-")
    encoded = text.encode("utf-8", "replace")
    if len(encoded) > LONGEST_NAME_BYTES:
        mark = hashlib.sha256(encoded).hexdigest()[:8]
        text = encoded[: LONGEST_NAME_BYTES - 9].decode("utf-8", "ignore").rstrip(" .") + "-" + mark
    return f"{text}_" if _RESERVED.match(text) else text


def _without_ending(name: str) -> str:
    stem, dot, ending = name.rpartition(".")
    return stem if dot and stem and re.fullmatch(r"[A-Za-z0-9]{1,5}", ending) else name
