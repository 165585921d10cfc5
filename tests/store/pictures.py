"""Pictures made and uploaded by hand."""

import io

from PIL import Image


def drawn(width, height, colour=(200, 30, 30), kind="PNG"):
    out = io.BytesIO()
    Image.new("RGB", (width, height), colour).save(out, kind)
    return out.getvalue()


def put(web, content, name="dome.png", to="/files"):
    return web.post(
        to, data={"file": (io.BytesIO(content), name)}, headers={"Accept": "application/json"}
    )
