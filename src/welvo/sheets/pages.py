"""The pages of a PDF as pictures: what is shown on the screen is what is printed, drawn by the same reader."""

from __future__ import annotations

from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING

from welvo.rig.steps import take_step

if TYPE_CHECKING:
    from PIL.Image import Image

guard: AbstractContextManager[object] = nullcontext()
"""Entered around every call of the reader underneath, which is no friend of two threads at once: a program that has
several puts a lock here."""
PNG_DPI = 200


class Pages:
    """An opened PDF. Sizes are in millimetres."""

    def __init__(self, data: bytes) -> None:
        import pypdfium2

        with guard:
            self._doc = pypdfium2.PdfDocument(data)
            self.sizes = [
                (w * 25.4 / 72, h * 25.4 / 72) for w, h in (self._doc.get_page_size(n) for n in range(len(self._doc)))
            ]

    def __len__(self) -> int:
        return len(self.sizes)

    def picture_of_page(self, n: int, dpi: float) -> Image:
        """Page n (from 0) as it is printed at so many dots an inch."""
        with guard:
            page = self._doc[n]
            try:
                made: Image = page.render(scale=dpi / 72).to_pil()
                return made
            finally:
                page.close()

    def text_of_page(self, n: int) -> str:
        """The words of a page, in the order they were written."""
        with guard:
            page = self._doc[n]
            try:
                words = page.get_textpage()
                try:
                    return str(words.get_text_bounded())
                finally:
                    words.close()
            finally:
                page.close()

    def close_pages(self) -> None:
        with guard:
            self._doc.close()


def pages_as_pngs(data: bytes, dpi: float = PNG_DPI) -> list[bytes]:
    """Every page of a PDF as a PNG."""
    import io

    pages = Pages(data)
    found = []
    try:
        for n in range(len(pages)):
            take_step("pages", n, len(pages), every=1)
            out = io.BytesIO()
            pages.picture_of_page(n, dpi).save(out, "PNG", dpi=(dpi, dpi))
            found.append(out.getvalue())
    finally:
        pages.close_pages()
    return found
