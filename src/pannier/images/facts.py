"""What the header of a picture file says, without decoding it."""

from __future__ import annotations

import datetime
import io
import re
import struct
from typing import Any, NamedTuple

from pannier.errors import PictureError
from pannier.images import webp

MAX_PIXELS = 100_000_000

FORMATS = ("jpeg", "png", "webp", "bmp", "gif", "tiff", "ppm")

ORIENTATION_TAG = 274
EXIF_TAG, TIME_TAG, ORIGINAL_TIME_TAG = 34665, 306, 36867
WIDTH_TAG, HEIGHT_TAG = 256, 257
BITS_PER_SAMPLE_TAG, COMPRESSION_TAG, PHOTOMETRIC_TAG, SAMPLES_TAG, PLANES_TAG = 258, 259, 262, 277, 284
EXTRA_SAMPLES_TAG, SAMPLE_FORMAT_TAG, INKS_TAG, SUBSAMPLING_TAG = 338, 339, 332, 530
# where strips and tiles begin, and how long they are
_OFFSET_TAGS, _LENGTH_TAGS = (273, 324), (279, 325)
_INKS, _YCBCR = 5, 6
# a JPEG of more scans, or a header of more bytes, is none that a camera or a program for pictures writes
MOST_SCANS = 100
MOST_HEADER_BYTES = 1 << 16
# what deflate makes at most of a byte (RFC 1951: 258 bytes of two bits)
_DEFLATED_RATIO = 1032
# the chunk that announces an animated PNG comes before its pixels, soon after the header
ANIMATION_SEARCHED_BYTES = 1 << 16


class Facts(NamedTuple):
    """What is known of a picture from its header alone.

    `height` and `width` are those of the upright picture, in pixels; `turn` is the EXIF orientation, 1 to 8, that makes
    it upright. `mode` says how colors are kept: "ycbcr", "rgb", "gray", "palette", "cmyk", "bilevel", with "16" behind
    it for 16 bits a channel and "+alpha" for transparency. `progressive`: a decoder holds the whole picture beside the
    pixels that it gives, of a progressive JPEG, or of a WebP that is lossless or animated.
    """

    format: str
    mode: str
    height: int
    width: int
    turn: int = 1
    progressive: bool = False

    @property
    def coded_size(self) -> tuple[int, int]:
        """(height, width) as the pixels lie in the file."""
        return (self.width, self.height) if self.turn >= 5 else (self.height, self.width)


def format_of(head: bytes) -> str | None:
    """The format that the first 16 or more bytes of a file show, or None where it is no picture that is read here."""
    if head.startswith(b"\xff\xd8\xff"):
        return "jpeg"
    if head.startswith(b"\x89PNG\r\n\x1a\n"):
        return "png"
    if head[:4] == b"RIFF" and head[8:12] == b"WEBP":
        return "webp"
    if head.startswith((b"GIF87a", b"GIF89a")):
        return "gif"
    if head.startswith((b"II*\0", b"MM\0*")):
        return "tiff"
    if head.startswith(b"BM") and len(head) >= 14 and head[6:10] == b"\0\0\0\0":
        return "bmp"
    if head[:1] == b"P" and head[1:2] in b"123456" and head[2:3] in (b" ", b"\n", b"\r", b"\t"):
        return "ppm"
    return None


# pictures that are not read, by how they begin: (bytes, where they stand, what they are called)
_NOT_READ = (
    *((b"\0\0\1\0", 0, "ICO"), (b"\0\0\2\0", 0, "CUR"), (b"icns", 0, "ICNS"), (b"8BPS", 0, "PSD"), (b"gimp xcf", 0, "XCF")),
    *((b"<svg", 0, "SVG"), (b"ftypheic", 4, "HEIC"), (b"ftypmif1", 4, "HEIF"), (b"ftypavif", 4, "AVIF")),
    *((b"\0\0\0\x0cjP  ", 0, "JPEG 2000"), (b"\xff\x4f\xff\x51", 0, "JPEG 2000"), (b"\xff\x0a", 0, "JPEG XL")),
    *(
        (b"\0\0\0\x0cJXL ", 0, "JPEG XL"),
        (b"v/1\1", 0, "OpenEXR"),
        (b"#?RADIANCE", 0, "HDR"),
        (b"\xd7\xcd\xc6\x9a", 0, "WMF"),
    ),
    *((b"%!PS-Adobe", 0, "EPS"), (b"P7\n", 0, "PAM"), (b"II\x2b\0", 0, "BigTIFF"), (b"MM\0\x2b", 0, "BigTIFF")),
)


# how files are called that are pictures by their names
NAMES_END = (".jpg", ".jpeg", ".png", ".webp", ".bmp", ".gif", ".tif", ".tiff", ".ppm", ".pgm")


def looks_like_picture(name: str) -> bool:
    """Whether a file's name says that it is a picture."""
    return name.lower().endswith(NAMES_END)


def unread_format(head: bytes, name: str = "") -> str | None:
    """What a picture of a format that is not read here is called, by its first 16 bytes; None for all else.

    An SVG may begin like any XML, so that its file's name tells it.
    """
    if head.startswith((b"<?xml", b"<!--")) and name.lower().endswith(".svg"):
        return "SVG"
    return next((what for mark, at, what in _NOT_READ if head[at : at + len(mark)] == mark), None)


def refuse_other_kinds(head: bytes, name: str | None = None) -> None:
    """Raises PictureError for what begins like no picture that is read here, naming other kinds of pictures.

    A file that has another name than pictures have is skipped; with such a name, or without any, it is broken, as a
    download that failed.
    """
    if format_of(head) is None:
        unread = unread_format(head, name or "")
        if unread:
            raise PictureError(f"a picture of a kind that is not read: {unread}", "unsupported")
        if name is not None and not looks_like_picture(name):
            raise PictureError("not a picture", "skipped")
        is_page = head.lstrip().lower().startswith((b"<!doctype", b"<html", b"<?xml", b"<head"))
        raise PictureError("a web page instead of a picture" if is_page else "not a picture", "broken")


def read_facts(data: bytes | memoryview) -> Facts:
    """The facts of an encoded picture. Raises PictureError where it is none, or of a kind that is not read."""
    if len(data) == 0:
        raise PictureError("0 bytes", "empty")
    head = bytes(data[:16])
    refuse_other_kinds(head)
    kind = str(format_of(head))
    facts = _jpeg_facts(data) if kind == "jpeg" else _other_facts(data, kind)
    if facts.height < 1 or facts.width < 1:
        raise PictureError("no pixels")
    return facts


def check_pixels(facts: Facts, max_pixels: int = MAX_PIXELS) -> None:
    """Raises PictureError where the header announces more pixels than are decoded here."""
    pixels = facts.height * facts.width
    if pixels > max_pixels:
        size = f"{facts.width:,} x {facts.height:,}"
        raise PictureError(f"{size} is over {max_pixels / 1e6:g} megapixels", "oversized")


# --- JPEG (ITU-T T.81; EXIF 2.3 for the orientation) ---------------------------------------------------------------

_FRAMES = frozenset((0xC0, 0xC1, 0xC2))
_OTHER_FRAMES = frozenset((0xC3, 0xC5, 0xC6, 0xC7, 0xC9, 0xCA, 0xCB, 0xCD, 0xCE, 0xCF))
_PROGRESSIVE = 0xC2
_STANDALONE = frozenset((0x01, *range(0xD0, 0xD9)))


def is_animated(data: bytes | memoryview, kind: str) -> bool:
    """Whether a file holds more pictures than its first: animations, and TIFF files of several pages."""
    if kind == "png":
        head = bytes(data[:ANIMATION_SEARCHED_BYTES])
        return 0 < head.find(b"acTL") < max(head.find(b"IDAT"), 0)
    if kind == "webp":
        return webp.is_animated(data)
    if kind in ("gif", "tiff"):
        try:
            with open_with_pillow(data, kind) as image:
                if kind == "gif":
                    return bool(image.is_animated)
                image.seek(1)  # counting all pages would read each of them from the beginning
                return True
        except Exception:  # what the damaged bytes happen to provoke; decoding says it
            return False
    return False


def time_taken(data: bytes | memoryview, kind: str) -> datetime.datetime | None:
    """When the picture was taken, as its EXIF data say, without a time zone; None where they do not."""
    try:
        with open_with_pillow(data, kind) as image:
            exif = image.getexif()
            text = exif.get_ifd(EXIF_TAG).get(ORIGINAL_TIME_TAG) or exif.get(TIME_TAG)
            return datetime.datetime.strptime(str(text).strip("\0 "), "%Y:%m:%d %H:%M:%S") if text else None
    except Exception:  # what damaged EXIF data happen to provoke; they are of no use then
        return None


def _jpeg_facts(data: bytes | memoryview) -> Facts:
    turn, adobe_transform, has_jfif = 1, None, False
    at, end = 2, len(data)
    while at + 4 <= end:
        if data[at] != 0xFF:
            at += 1
            continue
        marker = data[at + 1]
        if marker == 0xFF or marker == 0 or marker in _STANDALONE:
            at += 1 if marker == 0xFF else 2
            continue
        length = (data[at + 2] << 8) | data[at + 3]
        body = at + 4
        if marker in _FRAMES:
            if marker == _PROGRESSIVE or _first_scan(data, at + 2 + length) != data[body + 5 : body + 6]:
                _check_scans(data)
            return _jpeg_frame(bytes(data[body : at + 2 + length]), marker, turn, adobe_transform, has_jfif)
        if marker in _OTHER_FRAMES:
            raise PictureError("a lossless or arithmetic-coded JPEG, which is not read", "unsupported")
        if marker in (0xD9, 0xDA):
            break
        if marker == 0xE0 and bytes(data[body : body + 4]) == b"JFIF":
            has_jfif = True
        elif marker == 0xE1 and bytes(data[body : body + 6]) == b"Exif\0\0":
            turn = _exif_turn(bytes(data[body + 6 : at + 2 + length]))
        elif marker == 0xEE and length >= 14 and body + 11 < end and bytes(data[body : body + 5]) == b"Adobe":
            adobe_transform = data[body + 11]
        at += 2 + length
    raise PictureError("cut short before the picture begins")


def _first_scan(data: bytes | memoryview, at: int) -> bytes:
    """How many components the first scan has, one byte, from the segment after the frame on; none where that is not plain.

    A scan of all components is the only one: decoders refuse what follows it.
    """
    while data[at : at + 1] == b"\xff" and len(data) - at >= 5:
        if data[at + 1] == 0xDA:
            return bytes(data[at + 4 : at + 5])
        at += 2 + ((data[at + 2] << 8) | data[at + 3])
    return b""


def _check_scans(data: bytes | memoryview) -> None:
    """Raises PictureError where a JPEG has far more scans than a picture needs: each is decoded over all its pixels."""
    scans = bytes(data).count(b"\xff\xda")
    if scans > MOST_SCANS:
        raise PictureError(f"a JPEG of {scans:,} scans, which is not read", "unsupported")


def _jpeg_frame(frame: bytes, marker: int, turn: int, adobe_transform: int | None, has_jfif: bool) -> Facts:
    if len(frame) < 6 + 3:
        raise PictureError("cut short before the picture begins")
    precision, height, width, components = struct.unpack(">BHHB", frame[:6])
    if precision != 8:
        raise PictureError(f"a {precision}-bit JPEG, which is not read", "unsupported")
    if components == 1:
        mode = "gray"
    elif components == 4:
        mode = "cmyk"
    elif components == 3:
        # the rule of libjpeg: JFIF means YCbCr; else Adobe's marker says; else the component ids R, G, B do
        ids = (frame[6], frame[9], frame[12]) if len(frame) >= 15 else ()
        coded_rgb = adobe_transform == 0 if adobe_transform is not None else ids == (82, 71, 66)
        mode = "ycbcr" if has_jfif or not coded_rgb else "rgb"
    else:
        raise PictureError(f"a JPEG of {components} components, which is not read", "unsupported")
    if turn >= 5:
        height, width = width, height
    return Facts("jpeg", mode, height, width, turn, marker == _PROGRESSIVE)


def _exif_turn(tiff: bytes) -> int:
    """The orientation in an EXIF block, 1 where there is none or the block is malformed."""
    order = {b"II": "<", b"MM": ">"}.get(tiff[:2])
    if order is None or len(tiff) < 8:
        return 1
    magic, directory = struct.unpack(order + "HI", tiff[2:8])
    if magic != 42 or directory + 2 > len(tiff):
        return 1
    (entries,) = struct.unpack(order + "H", tiff[directory : directory + 2])
    for i in range(entries):
        entry = tiff[directory + 2 + 12 * i : directory + 14 + 12 * i]
        if len(entry) < 12:
            return 1
        tag, kind = struct.unpack(order + "HH", entry[:4])
        if tag == ORIENTATION_TAG and kind == 3:
            return _valid_turn(struct.unpack(order + "H", entry[8:10])[0])
    return 1


def _png_turn(data: bytes | memoryview) -> int:
    """The orientation in a PNG file's eXIf chunk; Pillow would decode the whole picture to look for it."""
    at = 8
    while at + 12 <= len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        if bytes(data[at + 4 : at + 8]) == b"eXIf":
            return _exif_turn(bytes(data[at + 8 : at + 8 + length]))
        at += 12 + length
    return 1


def _valid_turn(value: object) -> int:
    return value if isinstance(value, int) and 1 <= value <= 8 else 1


# --- everything else, through Pillow's readers ---------------------------------------------------------------------


def open_with_pillow(data: bytes | memoryview, kind: str) -> Any:
    """Pillow's image of that format, pixels not loaded. Goes past `Image.open`, whose warnings are the whole process's."""
    from PIL import BmpImagePlugin, GifImagePlugin, JpegImagePlugin, PngImagePlugin, PpmImagePlugin, TiffImagePlugin
    from PIL import WebPImagePlugin as Webp

    readers = {
        "jpeg": JpegImagePlugin.JpegImageFile,
        "png": PngImagePlugin.PngImageFile,
        "webp": Webp.WebPImageFile,
        "bmp": BmpImagePlugin.BmpImageFile,
        "gif": GifImagePlugin.GifImageFile,
        "tiff": TiffImagePlugin.TiffImageFile,
        "ppm": PpmImagePlugin.PpmImageFile,
    }
    reader: Any = readers[kind]
    return reader(io.BytesIO(data))


_PILLOW_MODES = {
    **{"1": "bilevel", "L": "gray", "LA": "gray+alpha", "P": "palette", "PA": "palette+alpha"},
    **{"RGB": "rgb", "RGBX": "rgb", "RGBA": "rgb+alpha", "CMYK": "cmyk", "YCbCr": "ycbcr"},
    **dict.fromkeys(("I;16", "I;16B", "I;16L", "I"), "gray16"),
}


def _other_facts(data: bytes | memoryview, kind: str) -> Facts:
    if kind == "ppm":
        _check_ppm_header(data)
    if kind == "png":
        _check_png_bytes(data)
    try:
        with open_with_pillow(data, kind) as image:
            mode = _other_mode(data, kind, image)
            width, height = image.size
            turn = _png_turn(data) if kind == "png" else _valid_turn(image.getexif().get(ORIENTATION_TAG, 1))
    except PictureError:
        raise
    except Exception as error:  # Pillow's readers raise what the damaged bytes happen to provoke
        raise PictureError(f"its header cannot be read ({_short(error)})") from error
    if kind == "tiff":  # Pillow gives its upright size; it turns its pixels by itself, and so does OpenCV
        turn = 1
    elif turn >= 5:
        height, width = width, height
    return Facts(kind, mode, height, width, turn, kind == "webp" and webp.is_held_twice(data))


def _check_ppm_header(data: bytes | memoryview) -> None:
    """Raises PictureError where the numbers of a PPM's header are not in its first bytes: comments may have any length."""
    head = re.sub(rb"#[^\r\n]*[\r\n]?", b" ", bytes(data[:MOST_HEADER_BYTES]))
    if not re.match(rb"P[14]\s+\d{1,9}\s+\d{1,9}\s|P[2356]\s+\d{1,9}\s+\d{1,9}\s+\d{1,9}\s", head):
        raise PictureError("its header cannot be read (no width and height in its first bytes)")


def _check_png_bytes(data: bytes | memoryview) -> None:
    """Raises PictureError where a PNG is too short for the pixels that its header announces (W3C PNG, 11.2.1)."""
    if len(data) < 33 or bytes(data[12:16]) != b"IHDR":
        raise PictureError("cut short before the picture begins")
    width, height, depth, kind = struct.unpack(">IIBB", bytes(data[16:26]))
    channels = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}.get(kind, 1)
    is_oversized = height * width > MAX_PIXELS  # which is said of it, whatever its file holds
    if not is_oversized and height * (1 + (width * depth * channels + 7) // 8) > _DEFLATED_RATIO * len(data):
        raise PictureError("cut short")


def _other_mode(data: bytes | memoryview, kind: str, image: Any) -> str:
    if kind == "png" and data[24] == 16:
        sixteen = "rgb16" if data[25] in (2, 6) else "gray16"
        return f"{sixteen}+alpha" if data[25] in (4, 6) or "transparency" in image.info else sixteen
    if kind == "tiff":
        _check_tiff(image.tag_v2)
        deep = _deep_tiff_mode(image.tag_v2)
        if deep:
            return deep
        if image.mode == "RGBA" and EXTRA_SAMPLES_TAG not in image.tag_v2:
            return "rgb"  # a fourth sample of which nothing is said is no transparency
    mode = _PILLOW_MODES.get(image.mode)
    if mode is None:
        raise PictureError(f"of color mode {image.mode}, which is not read", "unsupported")
    if "transparency" in image.info and not mode.endswith("+alpha"):
        mode += "+alpha"
    return mode


def _check_tiff(tags: Any) -> None:
    """Raises PictureError for a TIFF file (TIFF 6.0) that decoders are not proved to read right, or that is cut short."""
    what, photometric, is_plain = "a TIFF file", tags.get(PHOTOMETRIC_TAG), tags.get(COMPRESSION_TAG, 1) == 1
    if photometric is None:
        raise PictureError(f"{what} that does not say what its samples mean, which is not read", "unsupported")
    if {*_several(tags.get(SAMPLE_FORMAT_TAG, 1))} != {1}:
        raise PictureError(f"{what} whose samples are no plain whole numbers, which is not read", "unsupported")
    if photometric == _INKS and tags.get(INKS_TAG, 1) != 1:
        raise PictureError(f"{what} of other inks than cyan, magenta, yellow and black, which is not read", "unsupported")
    if photometric == _YCBCR and is_plain and tuple(_several(tags.get(SUBSAMPLING_TAG, (2, 2)))) != (1, 1):
        raise PictureError(f"{what} of coarser colors, uncompressed, which is not read", "unsupported")
    lengths = [length for tag in _LENGTH_TAGS for length in _several(tags.get(tag, ()))]
    if 0 in lengths or any(0 in _several(tags.get(tag, ())) for tag in _OFFSET_TAGS):
        raise PictureError(f"{what} that leaves parts of its picture out, which is not read", "unsupported")
    width, height = tags.get(WIDTH_TAG, 0), tags.get(HEIGHT_TAG, 0)
    samples, bits = tags.get(SAMPLES_TAG, 1), max(_several(tags.get(BITS_PER_SAMPLE_TAG, 1)))
    a_row = -(-width * bits // 8) * samples if tags.get(PLANES_TAG, 1) == 2 else -(-width * bits * samples // 8)
    if is_plain and lengths and sum(lengths) < height * a_row:
        raise PictureError("cut short")


def _several(value: Any) -> Any:
    return value if isinstance(value, (tuple, list)) else (value,)


def _deep_tiff_mode(tags: Any) -> str | None:
    """The mode of a TIFF file of more than 8 bits a sample (TIFF 6.0), None for others; what is not proved is not read."""
    bits = tags.get(BITS_PER_SAMPLE_TAG, (1,))
    if max(bits) <= 8:
        return None
    what = f"a TIFF file of {max(bits)} bits and {len(bits)} channel{'s' if len(bits) > 1 else ''}"
    if set(bits) != {16} or set(tags.get(SAMPLE_FORMAT_TAG, (1,))) != {1}:
        raise PictureError(f"{what}, which is not read", "unsupported")
    if len(bits) == 1 and tags.get(PHOTOMETRIC_TAG) in (0, 1):
        return "gray16"
    if len(bits) not in (3, 4) or tags.get(PHOTOMETRIC_TAG) != 2:
        raise PictureError(f"{what} that are not red, green and blue, which is not read", "unsupported")
    if tags.get(PLANES_TAG, 1) != 1:
        raise PictureError(f"{what} in planes of their own, which is not read", "unsupported")
    extra = tags.get(EXTRA_SAMPLES_TAG, (0,))[0]
    if len(bits) == 4 and extra == 1:
        raise PictureError(f"{what}, multiplied by their transparency, which is not read", "unsupported")
    return "rgb16+alpha" if len(bits) == 4 and extra == 2 else "rgb16"


def _short(error: BaseException) -> str:
    text = " ".join(str(error).split()) or type(error).__name__
    return text if len(text) <= 80 else text[:77] + "..."
