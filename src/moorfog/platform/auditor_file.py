"""The auditor's program as one file: its modules one after another, with the standard library and one package."""

from __future__ import annotations

import ast
from functools import cache
from pathlib import Path

HERE = Path(__file__).parents[1] / "auditor"
ORDER = ("log", "raw", "chance", "figures", "worked_at", "second", "archive", "command")
"""Each knows only those before it."""
HEAD = '''"""Checks an archive of fit-test records, and judges every record in it again.

    python3 verify.py ARCHIVE.zip [--key FINGERPRINT]

It needs Python 3.11 and the package "cryptography", nothing else, and no network. It is the whole program: read it.

What is in an archive: index.csv, a line a test; records/, every visit as an open record (JSON: rules, log, readings,
verdict, signatures); papers/, each report as it was issued, listed with its digest in papers.csv; rules/, the rules by
their SHA-256; manifest.txt, the SHA-256 of every file; root.txt, the SHA-256 of the manifest, signed (Ed25519).

What is checked: that the manifest is of these very files, and signed; with which key; that index, records, rules and
papers say the same; that each log is one chain (every entry's SHA-256 is over the one before), and the readings and
statements are those it was sealed and signed with; and every verdict, by a second judge written from the published
texts, which shares no code with the program that made it. It ends with 0 where all holds, 3 where something does not.

What it cannot know: whether the key is the maker's. Compare the fingerprint it shows with a paper, or by telephone.
"""
'''


@cache
def one_file() -> str:
    """Return the text of the program."""
    whole: set[str] = set()
    some: dict[str, set[str]] = {}
    parts = []
    for name in ORDER:
        text = (HERE / f"{name}.py").read_text(encoding="utf-8")
        tree, lines = ast.parse(text), text.splitlines()
        taken: set[int] = set()
        for node in tree.body:
            if isinstance(node, (ast.Import, ast.ImportFrom)):
                taken |= set(range(node.lineno, (node.end_lineno or node.lineno) + 1))
                names = {one.name for one in node.names}
                if isinstance(node, ast.Import):
                    whole |= names
                elif not (node.module or "").startswith(("moorfog", "__future__")):
                    some.setdefault(node.module or "", set()).update(names)
        title, first = ast.get_docstring(tree) or "", tree.body[0]
        taken |= set(range(first.lineno, (first.end_lineno or first.lineno) + 1))
        rest = "\n".join(line for no, line in enumerate(lines, start=1) if no not in taken).strip("\n")
        said = "\n".join(f"# {one}".rstrip() for one in title.splitlines())
        parts.append(f"# {'-' * 78}\n{said}\n\n\n{rest}")
    plain = [f"import {one}" for one in sorted(whole)]
    plain += [f"from {module} import {', '.join(sorted(names))}" for module, names in sorted(some.items())]
    body = "\n\n\n".join(parts)
    end = '\n\n\nif __name__ == "__main__":\n    sys.exit(main())\n'
    return HEAD + "\nfrom __future__ import annotations\n\n" + "\n".join(plain) + "\n\n" + body + end
