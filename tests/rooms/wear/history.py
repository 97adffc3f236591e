"""Results of before, as a house takes them over and speaks of them in writing."""

from __future__ import annotations

import base64
from typing import Any

from tests.rooms.house import Client, House, Place

WHY = "The papers of the last tester were seen and are kept at the office."


def table_of(
    house: House, *rows: str, name: str = "last-year.csv", place: Place | None = None, **more: Any
) -> dict[str, Any]:
    """A table of results of before, as it is sent."""
    text = "\n".join(("Number;Test date;Mask;Size;Method;Result;Fit factor;Tested by", *rows))
    site = (place or house.ours).site
    return {"site_id": site, "file_name": name, "content": base64.b64encode(text.encode()).decode(), **more}


def word_on(admin: Client, model: str, size: str, **changes: Any) -> dict[str, Any]:
    """What is said in writing: that it was the invented half facepiece in this size, as it is offered first."""
    (piece,) = admin.get("/api/facepieces?q=sedge")["rows"]
    first = {name: (piece[f"{name}s"] or [""])[0] for name in ("suspension", "clip")}
    said = {"model": model, "size": size, "version_id": piece["version_id"], "piece_size": "M", "why": WHY, **first}
    me = admin.get("/api/session")["name"]
    return {**said, "filter_class": piece["filter_classes"][0], "typed_name": me, **changes}


def said_in_writing(house: House, place: Place, model: str, size: str, factor: str = "1200") -> str:
    """Take over a pass of before of a place's first person, and say in writing that it counts; the id of the word."""
    admin = house.client("administrator", place)
    day = house.clock.at.date().replace(day=1).isoformat()
    row = f"{house.mark}-0;{day};{model};{size};ambient count;passed;{factor};R. Vole"
    admin.post("/api/history", table_of(house, row, place=place))
    made: str = admin.post(f"/api/sites/{place.site}/history", word_on(admin, model, size))["id"]
    return made
