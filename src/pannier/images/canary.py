"""The canary: a made-up JPEG whose prepared pixels tell whether two machines decode alike."""

from __future__ import annotations

import base64
import hashlib

import numpy as np

from pannier.images.prepare import Preparation
from pannier.images.treatment import Treatment

# 48 x 40 pixels, color, 4:2:0
_PICTURE = base64.b64decode(
    "/9j/4AAQSkZJRgABAQAAAQABAAD/2wBDAAYEBQYFBAYGBQYHBwYIChAKCgkJChQODwwQFxQYGBcUFhYaHSUfGhsjHBYWICwgIyYnKSopGR8tMC"
    "0oMCUoKSj/2wBDAQcHBwoIChMKChMoGhYaKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCgoKCj/wAARCAAo"
    "ADADASIAAhEBAxEB/8QAGgAAAwEBAQEAAAAAAAAAAAAAAAYHBQQDCP/EACUQAAICAgICAgEFAAAAAAAAAAECAAMEBQYRITESQRMHFCJh0f/EAB"
    "cBAQEBAQAAAAAAAAAAAAAAAAYFBwP/xAAnEQABBAEDAwMFAAAAAAAAAAABAAIDBAUREkEhMVEGIoETYZGh0f/aAAwDAQACEQMRAD8Ab8nfpVSQ"
    "GHqTzlW/NocBpn5Oxst7AJmTkYluS3onuG8Jho4XBzk0xlV8FLe8cJdyXbJyD99mO/CtX87UJWcer4672glTKfxXSigKSvUfPmYyLa1ZhmM9LH"
    "a2MT3xbErooUkD1O7f7SrFxmJYKAPZM5a7Rj4/g9eJM/1I3rpS1FbeXHnz6ElhrIGOtS9h2+54Hyf6q9Zlu/ENQp7pkOSw++496rSq6glZk8J0"
    "ruqEqZUsXXfgoBI+pKklDH7WpdlPUYjpljBwsTG1tVABIE0K8ynHHsCZm9zf24bz11EXYb1/mQGifF4x9rQlYpBLJdv6kcp/2/Ia6cd3Zv4qPq"
    "SHkWwbNusdj2WPc89ltLsy78KN2inz/Zhj6628gkGQs7Mx9oV2H2R/t3P47D58rf6RjoY/e5vXRfQnFNLVRQhKj1NTeWVY+O3RA6EISJRH1bA3"
    "IQyNs0XvCi/MdqvzcBpPMrMJJ+J7dj0v+whNdkcaOHlng6OA6HxqQFxxVKFtoaNTDxXSm/4krKbrOOolQJUQhMKnmeH6AprnpXCoQPC//9k="
)


def canary_digest(treatment: Treatment) -> str:
    """SHA-256 of the canary's array as a treatment prepares it, without random steps."""
    return hashlib.sha256(np.ascontiguousarray(Preparation(treatment).one(_PICTURE)).tobytes()).hexdigest()
