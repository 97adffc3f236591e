"""The fonts of all papers, with the letters of every European script and of Vietnamese.

Each file is a family of its own, and they are listed one after the other: where two files share a family, the letters
of one are drawn with the shapes of the other, and a name reads as somebody else's.
"""

from __future__ import annotations

FILES = (
    "atkinson-hyperlegible-next-latin-wght-normal",
    "atkinson-hyperlegible-next-latin-ext-wght-normal",
    "noto-sans-latin-wght-normal",
    "noto-sans-latin-ext-wght-normal",
    "noto-sans-vietnamese-wght-normal",
    "noto-sans-cyrillic-wght-normal",
    "noto-sans-cyrillic-ext-wght-normal",
    "noto-sans-greek-wght-normal",
    "noto-sans-greek-ext-wght-normal",
    "noto-sans-math-signs-normal",
)
"""In the order in which they are tried for a letter. The last has arrows and signs such as ≥, cut out of a larger
file."""


def family(number: int) -> str:
    """Return the family name of a file."""
    return f"F{number}"


FACES = "\n".join(
    f"@font-face {{ font-family: {family(number)}; font-weight: 200 900; src: url(fonts/{name}.woff2) }}"
    for number, name in enumerate(FILES)
)
"""Says where the files are: the style sheet of all papers."""
STACK = ", ".join([*(family(number) for number in range(len(FILES))), "sans-serif"])
"""The families in their order."""
