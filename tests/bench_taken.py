"""What is taken away whole: every test as a table, with the memory it takes; five hundred cards on sheets."""

from __future__ import annotations

import re
import time
from collections.abc import Callable, Iterable, Iterator
from dataclasses import fields
from functools import partial
from pathlib import Path

from sqlalchemy import Engine
from sqlalchemy.orm import Session

from moorfog.platform.printing.pdf import pdf_of_all
from moorfog.platform.printing.sheets import workbook_file
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.streams import csv_pieces, json_pieces
from moorfog.rooms.papers.card import ON_A_SHEET, CardView, cards_html
from moorfog.rooms.records import inspecting, searching
from moorfog.rooms.records.routes import _cells

CARDS = 500
STATUS, FRESH = Path("/proc/self/status"), Path("/proc/self/clear_refs")


def _highest() -> float:
    """The most memory this process held since that was last set back, in MB."""
    found = re.search(r"VmHWM:\s+(\d+) kB", STATUS.read_text())
    return int(found[1]) / 1024 if found else 0.0


def _grown(work: Callable[[], int]) -> tuple[int, float, float]:
    """Do something; return what it counted, the seconds it took, and by how many MB it grew above what was held."""
    FRESH.write_text("5")
    held, began = _highest(), time.perf_counter()
    counted = work()
    return counted, time.perf_counter() - began, _highest() - held


def _sent(engine: Engine, made: Callable[[Session], Iterable[bytes]]) -> int:
    with Session(engine) as db:
        return sum(len(one) for one in made(db))


def bench_exports(engine: Engine, actor: Actor) -> None:
    """Print seconds, size and memory of every test as CSV, JSON and a workbook."""
    columns = inspecting.COLUMNS

    def rows(db: Session) -> Iterator[searching.RecordRow]:
        return searching.every_record(db, actor, searching.RecordsAsked())

    def in_cells(db: Session) -> Iterator[tuple[str | int, ...]]:
        return (_cells(one, columns) for one in rows(db))

    kinds: dict[str, Callable[[Session], Iterable[bytes]]] = {
        "CSV": lambda db: csv_pieces(columns, in_cells(db)),
        "JSON": lambda db: json_pieces(rows(db)),
        "a workbook": lambda db: workbook_file("records", columns, in_cells(db)),
    }
    for name, made in kinds.items():
        size, seconds, grown = _grown(partial(_sent, engine, made))
        print(f"  every test as {name:<28}{seconds:8.1f} s, {size / 1024**2:7.1f} MB sent, {grown:7.1f} MB more held")


def bench_cards() -> None:
    """Print the seconds of drawing cards, ten on a sheet."""
    words = {one.name: "Whin Ashby" for one in fields(CardView)}
    one = CardView(limits=(), **{**words, "check": f"https://moorfog.example/c/ABCD-EFGH-JKLM#{'x' * 260}"})
    began = time.perf_counter()
    sheets = [cards_html([one] * ON_A_SHEET, "sheet") for _ in range(CARDS // ON_A_SHEET)]
    pdf = pdf_of_all(sheets, lambda _: None)
    print(f"  {f'{CARDS} cards on sheets':<42}{time.perf_counter() - began:8.1f} s, {len(pdf) / 1024**2:7.1f} MB")
