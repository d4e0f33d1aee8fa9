"""Recoding: pictures made smaller, or saved in another format, before they are packed."""

from __future__ import annotations

import io
from dataclasses import dataclass
from typing import Any

from pannier.errors import PictureError, UsageError
from pannier.images.facts import Facts, open_with_pillow

ENCODINGS = ("jpeg", "png", "webp")
# where a size is asked for and no encoding: good enough that nobody sees it
_USUAL_QUALITY = {"jpeg": 92, "webp": 90}
_PNG_LEVEL = 6


@dataclass(frozen=True)
class Recoding:
    """How pictures are recoded: what is longer than `longest_side` is shrunk; `encoding` and `quality`, where given.

    The result is upright and has no metadata. It is the same on every machine that has the same Pillow.
    """

    longest_side: int | None = None
    encoding: str | None = None
    quality: int | None = None

    @property
    def text(self) -> str:
        return f"{self.longest_side} {self.encoding} {self.quality}"

    def __call__(self, data: bytes, facts: Facts) -> bytes:
        """The picture's new bytes; its own where it is small enough and no encoding is asked for. Raises PictureError."""
        too_long = self.longest_side is not None and max(facts.height, facts.width) > self.longest_side
        if not too_long and (self.encoding is None or (self.encoding == "png" == facts.format)):
            return data
        try:
            with open_with_pillow(data, facts.format) as opened:
                image = _shrunk(opened, self.longest_side) if too_long and self.longest_side else opened
                return self._encoded(_upright(image, facts), facts)
        except (MemoryError, PictureError):
            raise
        except Exception as error:  # decoders raise what the damaged bytes happen to provoke
            raise PictureError(f"broken: {error}") from error

    def _encoded(self, image: Any, facts: Facts) -> bytes:
        kind = self.encoding or (facts.format if facts.format in ENCODINGS else "png")
        sink = io.BytesIO()
        if kind == "png":
            image = image if image.mode not in ("CMYK", "YCbCr") else image.convert("RGB")
            image.save(sink, "png", compress_level=_PNG_LEVEL)
            return sink.getvalue()
        quality = self.quality or _USUAL_QUALITY[kind]
        if kind == "webp":
            image = image if image.mode in ("RGB", "RGBA") else image.convert("RGBA" if _has_alpha(image) else "RGB")
            image.save(sink, "webp", quality=quality, method=4)
        else:
            image = _without_alpha(image) if _has_alpha(image) else image
            image = image if image.mode in ("L", "RGB", "CMYK") else image.convert("L" if image.mode == "1" else "RGB")
            image.save(sink, "jpeg", quality=quality, optimize=True)
        return sink.getvalue()


def read_recoding(longest_side: int | None, encode: str | None) -> Recoding | None:
    """From what is said: a number of pixels; "jpeg:90", "png" or "webp:80". None where nothing is. Raises UsageError."""
    if longest_side is not None and longest_side < 1:
        raise UsageError(f"`longest_side` {longest_side}: must be 1 pixel or more")
    kind, _, quality = (encode or "").partition(":")
    if encode is not None and (kind not in ENCODINGS or (quality and (kind == "png" or not quality.isdigit()))):
        raise UsageError(f"`encode` {encode}: write jpeg:90, png or webp:80")
    if quality and not 1 <= int(quality) <= 100:
        raise UsageError(f"`encode` {encode}: the quality is 1 to 100")
    if longest_side is None and encode is None:
        return None
    return Recoding(longest_side, kind or None, int(quality) if quality else None)


def _shrunk(image: Any, longest_side: int) -> Any:
    """At most so long; a JPEG is decoded scaled, at no less than twice the size that is wanted."""
    from PIL import Image

    scale = longest_side / max(image.size)
    size = tuple(max(1, round(side * scale)) for side in image.size)
    image.draft(None, tuple(2 * side for side in size))
    if image.mode in ("P", "1"):
        image = image.convert("RGBA" if "transparency" in image.info else "RGB")
    return image.resize(size, Image.Resampling.LANCZOS, reducing_gap=3.0)


def _upright(image: Any, facts: Facts) -> Any:
    from PIL import ImageOps

    image.load()
    if facts.turn == 1:
        return image
    exif = image.getexif()
    exif[274] = facts.turn
    turned = ImageOps.exif_transpose(image)
    return turned if turned is not None else image


def _has_alpha(image: Any) -> bool:
    return image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info


def _without_alpha(image: Any) -> Any:
    from PIL import Image

    over = image.convert("RGBA")
    white = Image.new("RGBA", over.size, (255, 255, 255, 255))
    return Image.alpha_composite(white, over).convert("RGB")
