"""Photos of what was printed, made small."""

from __future__ import annotations

import io

from PIL import Image, ImageOps

from ..core.errors import BadValue

# Enough to see a surface by.
LONGEST_PIXELS = 1600
MOST_PIXELS = 60_000_000
MOST_BYTES = 20_000_000
QUALITY = 82


def small_photo(data: bytes) -> bytes:
    """A photo as JPEG of a size to be kept, upright, without what the camera told of place and time.

    Raises
    ------
    BadValue
        It is no picture, or one that claims to be larger than any photo.
    """
    try:
        with Image.open(io.BytesIO(data), formats=("JPEG", "PNG", "WEBP")) as found:
            # Told by its head, before anything is unpacked.
            if found.width * found.height > MOST_PIXELS:
                raise BadValue("The photo has more than 60 million pixels.", "Make it smaller first.")
            found.draft("RGB", (LONGEST_PIXELS, LONGEST_PIXELS))
            upright = ImageOps.exif_transpose(found).convert("RGB")
    except BadValue:
        raise
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError) as error:
        raise BadValue("This is no photo.", "Give a picture as JPEG, PNG or WebP.") from error
    upright.thumbnail((LONGEST_PIXELS, LONGEST_PIXELS))
    out = io.BytesIO()
    upright.save(out, "JPEG", quality=QUALITY)
    return out.getvalue()
