"""Names in the languages of Europe and in Vietnamese are printed with the letters they have.

Every name is set twice: as a paper sets it, and sign by sign in the one file that has the sign. Both are rendered, and
the pictures are the same; a letter drawn with the shape of another differs.
"""

from __future__ import annotations

import unicodedata
from collections.abc import Callable
from functools import cache
from html import escape
from typing import Any

import numpy as np
import pypdfium2
import pytest
from fontTools.ttLib import TTFont
from weasyprint import HTML

from moorfog.platform.printing.fonts import FILES, STACK, family
from moorfog.platform.printing.pdf import HERE, pdf_of

NAMES = {
    "Albanian": "Gëzim Çela",
    "Azerbaijani": "Əli Həsənov",
    "Basque": "Iñaki Etxeberria",
    "Belarusian": "Алесь Ўласаў",
    "Bosnian": "Đorđe Čolić",
    "Breton": "Añjela Le Floc’h",
    "Bulgarian": "Щерьо Ъгълов",
    "Catalan": "Núria Il·la",
    "Croatian": "Žarko Šćepan",
    "Czech": "Jiří Dvořák-Ťukal",
    "Danish": "Søren Ærø",
    "Dutch": "Ĳsbrand Coëlho",
    "English": "Zoë O’Hara-Finch",
    "Esperanto": "Ĉiela Ĝoja Ŝafo",
    "Estonian": "Õie Jõgi-Žürii",
    "Faroese": "Óðin Høgnesen",
    "Finnish": "Äijö Löytömäki",
    "French": "Françoise Bœuf d’Œuvre",
    "Galician": "Xoán Muíño",
    "German": "Jürgen Weiß-Österle ẞ",
    "Greek": "Γιάννης Ψαλμός-Ώρα",
    "Hungarian": "Győző Űrhegyi",
    "Icelandic": "Þórður Æðgir",
    "Irish": "Séamus Ó Súilleabháin",
    "Italian": "Niccolò Forlì",
    "Latvian": "Ģirts Ķēniņš-Ļaudis",
    "Lithuanian": "Žydrūnas Ąžuolas",
    "Luxembourgish": "Mëllen Schäffer",
    "Macedonian": "Ѓорѓи Џеков",
    "Maltese": "Ġorġ Ħal Żebbuġ",
    "Norwegian": "Bjørn Ødegård",
    "Polish": "Łucja Żółkiewska-Gęś",
    "Portuguese": "João Conceição",
    "Romanian": "Ștefan Țăranu",
    "Russian": "Фёдор Объездчиков",
    "Scottish Gaelic": "Mòrag NicLeòid",
    "Serbian": "Љубица Ђурић",
    "Slovak": "Ľubomír Ŕačko",
    "Slovenian": "Žiga Čuček",
    "Spanish": "Íñigo Peña ¿Ü?",
    "Swedish": "Åke Öström",
    "Turkish": "İrem Işık Ğül-Şen",
    "Ukrainian": "Їжак Ґедзь Єва",
    "Vietnamese": "Nguyễn Thị Ảnh Dương-Ữ",
    "Welsh": "Siân Ŵyn Ŷstrad",
    "signs of a paper": "³÷·µ≥×²−Σ→±≤”“–°χμ½ % …",
}
CELL_MM, SCALE = 14, 2
POINTS_MM = 72 / 25.4
STYLE = "body { font: 24pt %s; margin: 0 } section { break-after: page; position: relative; height: 15mm }"
PAGE = "@page { size: 420mm 20mm; margin: 2mm 0 }"


@cache
def signs(number: int) -> frozenset[int]:
    """The signs that a file has."""
    return frozenset(TTFont(HERE / "fonts" / f"{FILES[number]}.woff2").getBestCmap())


def file_with(sign: str) -> int | None:
    """The first file that has a sign."""
    return next((number for number in range(len(FILES)) if ord(sign) in signs(number)), None)


def rendered(names: list[str], family_of: Callable[[str], str], faces: str = "") -> list[list[np.ndarray]]:
    """The signs of names as pictures, each cut to its ink; ``family_of`` a sign says how it is set."""
    pages = "".join(
        "<section>"
        + "".join(
            f'<div style="position: absolute; left: {place * CELL_MM + 2}mm; font-family: {family_of(one)}">'
            f"{escape(one)}</div>"
            for place, one in enumerate(name.replace(" ", ""))
        )
        + "</section>"
        for name in names
    )
    html = f"<style>{faces} {PAGE} {STYLE % STACK}</style><body>{pages}</body>"
    as_papers_are = not faces
    pdf = pdf_of(html) if as_papers_are else HTML(string=html, base_url=str(HERE)).write_pdf()
    document = pypdfium2.PdfDocument(pdf)
    width = CELL_MM * POINTS_MM * SCALE
    out = []
    for number, name in enumerate(names):
        page = np.asarray(document[number].render(scale=SCALE, grayscale=True).to_numpy(), int)
        places = range(len(name.replace(" ", "")))
        out.append([ink(page[:, round(place * width) : round((place + 1) * width)]) for place in places])
    return out


def ink(cell: np.ndarray) -> np.ndarray:
    """A picture without the white around what is drawn."""
    rows, columns = np.where(cell.min(1) < 128)[0], np.where(cell.min(0) < 128)[0]
    assert rows.size and columns.size, "nothing is drawn"
    return cell[rows[0] : rows[-1] + 1, columns[0] : columns[-1] + 1]


def are_alike(one: np.ndarray, other: np.ndarray) -> bool:
    """Tell whether two pictures show the same sign, set a fraction of a point apart."""
    rows, columns = (min(a, b) for a, b in zip(one.shape, other.shape, strict=True))
    sizes = (abs(a - b) for a, b in zip(one.shape, other.shape, strict=True))
    far = abs(one[:rows, :columns] - other[:rows, :columns]) > 140
    return max(sizes) <= 1 and bool(far.mean() < 0.12)


def own(sign: str) -> str:
    """The family of the one file that has a sign."""
    return family(file_with(sign) or 0)


def built(sign: str) -> str:
    """The family in which a newer Pango sets a letter with its marks by themselves, where the first file has both."""
    parts = [int(one, 16) for one in unicodedata.decomposition(sign).split() if not one.startswith("<")]
    return family(0) if parts and signs(0).issuperset(parts) else own(sign)


@pytest.fixture(scope="module")
def pictures() -> dict[str, tuple[list[np.ndarray], ...]]:
    """The signs of every name as a paper sets them, each in the one file that has it, and each built of its parts."""
    drawn = (rendered(list(NAMES.values()), how) for how in (lambda _: STACK, own, built))
    return dict(zip(NAMES, zip(*drawn, strict=True), strict=True))


@pytest.mark.parametrize("language", list(NAMES))
def test_a_name_is_printed_with_its_own_letters(language: str, pictures: dict[str, Any]) -> None:
    name = NAMES[language].replace(" ", "")
    assert not [sign for sign in name if file_with(sign) is None], "a sign that no font has is an empty box"
    wrong = [
        sign
        for sign, one, *others in zip(name, *pictures[language], strict=True)
        if not any(are_alike(one, other) for other in others)
    ]
    assert not wrong, f"{NAMES[language]} is printed with other letters"


def test_two_files_under_one_family_would_be_noticed(pictures: dict[str, Any]) -> None:
    """What was wrong once: both files of the look as one family, parted by ranges of signs."""
    name = NAMES["Polish"]
    faces = "".join(
        f"@font-face {{ font-family: A; src: url(fonts/{FILES[number]}.woff2); unicode-range: {signs} }}"
        for number, signs in ((0, "U+0000-00FF"), (1, "U+0100-02BA"))
    )
    (as_set,) = rendered([name], lambda _: "A", faces)
    alike = [are_alike(one, other) for one, other in zip(as_set, pictures["Polish"][1], strict=True)]
    assert not all(alike)
