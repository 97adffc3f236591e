"""Everything that can be read of some things: the questions of the application's own routes."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from urllib.parse import urlencode

from moorfog.platform.web.routing import ROUTES, Route


@dataclass(frozen=True)
class Asked:
    """One question: its route, and its address with what it asks for."""

    route: Route
    address: str


def reading(ids: Mapping[str, str], fields: Mapping[str, str]) -> Iterator[Asked]:
    """Yield a question for every GET whose path names only what is in ``ids``, but for streams, which do not end;
    ``fields``: what to put into those fields of a question that a route has."""
    for one in ROUTES:
        names = re.findall(r"\{(\w+)\}", one.path)
        if one.method != "GET" or one.media == "text/event-stream" or not set(names) <= ids.keys():
            continue
        known = list(one.query.json_schema()["properties"]) if one.query else []
        query = urlencode({name: fields[name] for name in known if name in fields})
        path = re.sub(r"\{(\w+)\}", lambda found: ids[found[1]], one.path)
        yield Asked(one, f"{path}?{query}" if query else path)
