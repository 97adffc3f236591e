"""The invented scenario: a boatyard and a grain store, their people, facepieces and counters. Nothing here is real."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

EMPLOYERS: dict[str, dict[str, Any]] = {
    "Cold Haven Boatyard": {
        "sites": {"Slip 2": ["Bench A", "Bench B"], "Paint Hall": ["Bench C"]},
        "zone": "America/New_York",
        "work": [("shipwright", "hull sanding"), ("blaster", "steel blasting"), ("painter", "antifoul spraying")],
    },
    "Ellerby Grain and Seed": {
        "sites": {"Quay Silo": ["Bench 1"], "Seed Barn": ["Bench 2"]},
        "zone": "America/Chicago",
        "work": [("silo hand", "grain dust"), ("store keeper", "fumigation store")],
    },
}
PEOPLE_PER_SITE = 15
# fmt: off
GIVEN = (
    "Idris", "Maren", "Tove", "Callum", "Brea", "Osk", "Wynn", "Halla", "Piet", "Sorrel", "Edda",
    "Ruan", "Linnet", "Jory", "Agda", "Fenn", "Marit", "Cade", "Isolde", "Bram", "Neave", "Torin",
    "Vesna", "Alun", "Kirsi", "Rhodri", "Sunniva", "Lorcan", "Ylva", "Tamsin",
)
FAMILY = (
    "Fallow", "Pike", "Harrowby", "Stane", "Culver", "Wick", "Tarnley", "Moorend", "Quill",
    "Brackwater", "Skerry", "Holm", "Ashby", "Reedmace", "Thole", "Garrick", "Sedgley", "Wren",
    "Łoska", "Åsvik", "Dunnock", "Fell", "Marl", "Haugh", "Birk",
)
# fmt: on
SURVEY = {"m": ((122.7, 7.0), (143.5, 6.9)), "f": ((113.4, 6.1), (135.1, 6.5))}
"""Face length and width, mean and SD in mm. Source: 2003 head-and-face survey, recalled."""

L, M, S = ("L", "118", "134"), ("M", "110", "124"), ("S", "100", "115")


def _sizes(*which: tuple[str, str, str]) -> list[dict[str, str]]:
    return [{"name": name, "length_from": low, "length_to": high} for name, low, high in which]


FACEPIECES: list[dict[str, Any]] = [
    {
        "maker": "Harrowmere",
        "model": "Plover",
        "kind": "disposable_cup",
        "valve": False,
        "filter_kind": "media",
        "filter_classes": ["95-type"],
        "cover": "front",
        "suspensions": ["two bands"],
        "clips": [],
        "probe": "through",
        "test_filters": False,
        "sizes": _sizes(("S/M", "102", "120"), ("M/L", "114", "134")),
    },
    {
        "maker": "Ouselby",
        "model": "Teasel V",
        "kind": "disposable_fold",
        "valve": True,
        "filter_kind": "media",
        "filter_classes": ["99-type"],
        "cover": "front",
        "suspensions": ["two bands"],
        "clips": [],
        "probe": "through",
        "test_filters": False,
        "sizes": _sizes(("one size", "104", "132")),
    },
    {
        "maker": "Tindle & Wray",
        "model": "Whin",
        "kind": "disposable_clip",
        "approval": "INV-7715",
        "donning": ["clip to one side", "head lowered, chin in", "bands up", "hook the clip behind the neck"],
        "doffing": ["unhook the clip", "lean forward, by the bands, front untouched"],
        "reuse": "one shift",
        "valve": False,
        "filter_kind": "media",
        "filter_classes": ["99-type"],
        "cover": "front",
        "suspensions": ["clip-band"],
        "clips": ["short clip", "long clip"],
        "probe": "through",
        "test_filters": False,
        "sizes": _sizes(S, M, L),
    },
    {
        "maker": "Tindle & Wray",
        "model": "Sedge",
        "kind": "half",
        "valve": True,
        "filter_kind": "particulate",
        "filter_classes": ["100-type"],
        "cover": "thumbs",
        "suspensions": ["drop-down", "fixed"],
        "clips": [],
        "probe": "valve_seat",
        "test_filters": False,
        "sizes": _sizes(S, M, L),
    },
    {
        "maker": "Harrowmere",
        "model": "Bracken",
        "kind": "half",
        "valve": True,
        "filter_kind": "combined",
        "filter_classes": ["100-type"],
        "cover": "palms",
        "suspensions": ["fixed"],
        "clips": [],
        "probe": "probed_cartridge",
        "test_filters": True,
        "work_filters": [
            {"form": "particles", "filter_class": "100-type", "cartridges": []},
            {"form": "both", "filter_class": "100-type", "cartridges": ["organic vapour"]},
            {"form": "both", "filter_class": "100-type", "cartridges": ["inorganic gas"]},
        ],
        "sizes": _sizes(S, M, L),
    },
    {
        "maker": "Ouselby",
        "model": "Sleet",
        "kind": "full",
        "approval": "INV-2204",
        "diaphragms": 3,
        "accessories": ["lens covers", "spectacle insert"],
        "donning": ["straps fully out", "chin in", "harness back", "lower straps, then upper, both sides alike"],
        "doffing": ["wipe the outside", "upper straps first", "tilt it down and away"],
        "wash_limit_c": "43",
        "adapter": "inspected, cleaned, reused",
        "valve": True,
        "filter_kind": "combined",
        "filter_classes": ["100-type"],
        "cover": "palms",
        "suspensions": ["five straps"],
        "clips": [],
        "probe": "valve_seat",
        "test_filters": True,
        "work_filters": [
            {"form": "particles", "filter_class": "100-type", "cartridges": []},
            {"form": "both", "filter_class": "100-type", "cartridges": ["organic vapour"]},
            {"form": "both", "filter_class": "100-type", "cartridges": ["inorganic gas"]},
        ],
        "sizes": _sizes(S, M, L),
    },
    {
        "maker": "Tindle & Wray",
        "model": "Scree",
        "kind": "full",
        "valve": True,
        "filter_kind": "particulate",
        "filter_classes": ["100-type"],
        "cover": "thumbs",
        "suspensions": ["mesh harness"],
        "clips": [],
        "probe": "valve_seat",
        "test_filters": False,
        "sizes": _sizes(("S/M", "104", "122"), ("M/L", "116", "136")),
    },
    {
        "maker": "Harrowmere",
        "model": "Fulmar",
        "kind": "powered_full",
        "valve": True,
        "filter_kind": "particulate",
        "filter_classes": ["100-type"],
        "cover": "none",
        "suspensions": ["five straps"],
        "clips": [],
        "probe": "probed_cartridge",
        "test_filters": True,
        "work_filters": [{"form": "particles", "filter_class": "100-type", "cartridges": []}],
        "sizes": _sizes(M, L),
    },
]
TASKS: dict[str, dict[str, Any]] = {
    "hull sanding": {
        "contaminants": [("copper paint dust", "particles", "6", "1", "mg/m³", "100")],
        "work_filter": "100-type",
        "work_cartridge": "",
    },
    "steel blasting": {
        "contaminants": [("steel and paint dust", "particles", "9", "1", "mg/m³", "")],
        "work_filter": "100-type",
        "work_cartridge": "",
    },
    "antifoul spraying": {
        "contaminants": [
            ("solvent vapour", "gas or vapour", "300", "100", "ppm", "900"),
            ("paint mist", "particles", "4", "1", "mg/m³", ""),
        ],
        "work_filter": "100-type",
        "work_cartridge": "organic vapour",
    },
    "grain dust": {
        "contaminants": [("grain dust", "particles", "30", "4", "mg/m³", "")],
        "work_filter": "99-type",
        "work_cartridge": "",
    },
    "wood planing": {
        "contaminants": [("wood dust", "particles", "3", "1", "mg/m³", "")],
        "work_filter": "95-type",
        "work_cartridge": "",
    },
    "fumigation store": {
        "contaminants": [("phosphine", "gas or vapour", "1.5", "0.3", "ppm", "50")],
        "work_filter": "100-type",
        "work_cartridge": "inorganic gas",
    },
}
"""Invented figures for invented tasks: contaminant, form, concentration, limit, unit, IDLH. Not to be used anywhere."""
NOBODYS: dict[str, tuple[str, ...]] = {"Cold Haven Boatyard": ("wood planing",)}
"""Tasks of an employer that are nobody's usual ones."""
ACCOUNTS = (
    ("maren", "Maren Oake", "tester", None),
    ("hollis", "Hollis Grey", "administrator", None),
    ("ines", "Ines Carrow", "supervisor", "Cold Haven Boatyard"),
)
SOLUTIONS = (
    ("sweet", "threshold", "Heather 1", 180),
    ("sweet", "fit", "Heather 2", 180),
    ("bitter", "threshold", "Gorse 1", 180),
    ("bitter", "fit", "Gorse 2", 180),
    ("odour", "odour_jar", "", 1),
    ("odour", "blank_jar", "", 1),
    ("odour", "pure", "", 300),
    ("smoke", "tube", "", 400),
)
"""Agent, role, nebuliser it is filled into, and how many days it keeps."""
SENSED = {2: ("sweet", "Sedge"), 6: ("bitter", "Sedge"), 8: ("odour", "Bracken"), 9: ("sweet", "Sedge")}
"""Past visits, by the last digit of their number, that were tested by the senses, and in what."""
INSTRUMENTS: tuple[tuple[str, str, str, dict[str, str]], ...] = (
    (
        "Photometer 02",
        "photometer",
        "SIM-0012",
        {"resolution": "0.001", "ambient_minimum_photometer": "2000", "ambient_maximum": "100000"},
    ),
    ("Pressure 01", "pressure", "SIM-0021", {"resolution": "0.001"}),
)
"""Name, kind, serial number and figures of the demo's instruments besides its counter."""

SERIALS = {"counter": "SIM-0004", **{kind: serial for _, kind, serial, _ in INSTRUMENTS}}
"""By kind: the serial number on file, which the simulated instrument on the link says as well."""

PARTS: tuple[tuple[str, Literal["probe", "adapter", "probed cartridge", "manifold"], str, bool], ...] = (
    ("Probe set A", "probe", "Sedge, Sleet: valve seat", False),
    ("Adapter 3", "adapter", "Bracken: between filter and facepiece", False),
    ("Cartridge P1", "probed cartridge", "Bracken", False),
    ("Through-probe 5", "probe", "Plover, Teasel V, Whin: through the facepiece", True),
    ("Manifold 1", "manifold", "Bracken, Sedge, Sleet: negative pressure", False),
)
"""Name, kind, what it fits, and whether it is used once only."""

INSTRUMENT_VISITS = {
    12: ("aerosol", "photometer", "Sedge", "aerosol-us"),
    21: ("negative_pressure", "pressure", "Bracken", "pressure-short"),
    28: ("negative_pressure", "pressure", "Sleet", "pressure-full"),
}
"""Past visits with another instrument than the counter: method, kind, model, protocol."""

GOOD_CHECKS = {
    "counter": {"room_air": "5240", "clean_air": "0", "clean_line_ratio": "48000"},
    "photometer": {"clean_air": "0.2", "span": "15100"},
    "pressure": {"tightness": "0.001", "reference": "0.301"},
}
"""What the daily checks of sound instruments read."""

COUNTER_FIGURES = {
    "counted_flow": "100",
    "resolution": "1",
    "ambient_minimum_ordinary": "1500",
    "ambient_minimum_classified": "70",
    "ambient_maximum": "20000",
    "limit_room_air": "1500",
    "limit_clean_air": "0.1",
    "limit_clean_line_ratio": "20000",
}


@dataclass(frozen=True)
class DemoPerson:
    """An invented worker; face length and width in tenths of a millimetre."""

    name: str
    number: str
    job: str
    task: str
    face_length: int
    face_width: int


def invent_people(seed: int, work: list[tuple[str, str]], count: int, first_number: int) -> list[DemoPerson]:
    """Return ``count`` invented workers with faces drawn from the survey."""
    random = np.random.default_rng(seed)
    out: list[DemoPerson] = []
    taken: set[str] = set()
    while len(out) < count:
        name = f"{random.choice(GIVEN)} {random.choice(FAMILY)}"
        if name in taken:
            continue
        taken.add(name)
        (length, length_sd), (width, width_sd) = SURVEY["m" if random.random() < 0.6 else "f"]
        job, task = work[int(random.integers(len(work)))]
        out.append(
            DemoPerson(
                name=name,
                number=str(first_number + len(out)),
                job=job,
                task=task,
                face_length=round(float(random.normal(length, length_sd)) * 10),
                face_width=round(float(random.normal(width, width_sd)) * 10),
            )
        )
    return out
