"""Whether a facepiece, as worn at work, is enough for what is in the air there: 29 CFR 1910.134 (d) (recalled)."""

from __future__ import annotations

from fractions import Fraction

from moorfog.auditor.log import Json, number


def stated(book: Json, key: str) -> Json | None:
    """A value that a book states and a site has not left switched off."""
    found = book["values"].get(key)
    if found is None or (found.get("off") and not (found.get("checked") or found.get("changed"))):
        return None
    return dict(found)


def factor_of(book: Json, traits: Json, part: str) -> Fraction | None:
    """The assigned protection factor of exactly this kind, by exactly this class where classes are told apart."""
    if any(key.startswith(f"{traits['apf']}.") for key in book["values"]):
        one = stated(book, f"{traits['apf']}.{part}") if part else None
    else:
        one = stated(book, traits["apf"])
    return Fraction(one["value"]) if one is not None else None


def filters_of(piece: Json) -> list[Json]:
    """What a facepiece takes at work; of one that is tested with other filters and does not say, nothing."""
    if piece["work"]:
        return list(piece["work"])
    if piece["test_filters"]:
        return []
    form = {"media": "particles", "particulate": "particles", "gas": "gas or vapour"}.get(piece["filter_kind"], "both")
    return [{"form": form, "filter_class": piece["filter_class"], "cartridges": []}]


def stops_it(book: Json, task: Json, one: Json, worn: Json) -> bool:
    """Whether a filter stops a contaminant: a class at least as good as the task asks, a cartridge of its very kind."""
    dusty, gassy = one["form"] in ("particles", "both"), one["form"] in ("gas or vapour", "both")
    if dusty:
        orders = [
            list(each["value"])
            for key, each in book["values"].items()
            if (key == "filters.order" or key.startswith("filters.order.")) and stated(book, key)
        ]
        wanted = task["work_filter"]
        has = worn["filter_class"]
        good = any(wanted in each and has in each and each.index(has) >= each.index(wanted) for each in orders)
        if worn["form"] == "gas or vapour" or not good:
            return False
    needed = one.get("cartridge") or task["work_cartridge"]
    return not gassy or (worn["form"] != "particles" and bool(needed) and needed in worn["cartridges"])


def is_enough(book: Json, task: Json, piece: Json) -> bool:
    """Whether it is enough; what is not stated is not."""
    traits, air = piece["traits"], task["contaminants"]
    oxygen, least = number(task["oxygen_percent"]), stated(book, "oxygen.minimum")
    ratios = []
    for one in air:
        exposure, limit = number(one["concentration"]), number(one["limit"])
        ratios.append(exposure / limit if exposure is not None and limit else None)
    danger = task["is_idlh"] or task["is_unknown"] or not air or oxygen is None or None in ratios
    danger = danger or least is None or (oxygen or 0) < Fraction(least["value"])
    for one in air:
        top, exposure = number(one["idlh"]), number(one["concentration"])
        danger = danger or (top is not None and one["idlh"] and exposure is not None and exposure >= top)
    if danger or any(one is None for one in ratios):
        full = traits["level"] == "level.full"
        rescue = traits["air"] == "self-contained" or (traits["air"] == "supplied" and piece["has_escape_cylinder"])
        if not (full and traits["pressure"] == "pressure demand" and rescue) or None in ratios or not air:
            return False
    choices = filters_of(piece) if traits["air"] == "purifying" else [None]
    for worn in choices:
        if all(_one(book, task, piece, worn, one, ratio) for one, ratio in zip(air, ratios, strict=True)):
            return True
    return False


def _one(book: Json, task: Json, piece: Json, worn: Json | None, one: Json, ratio: Fraction | None) -> bool:
    traits = piece["traits"]
    if traits["family"] == "disposable" and one["form"] != "particles":
        return False
    if worn is not None and not stops_it(book, task, one, worn):
        return False
    parts = {"particles": ["dust"], "gas or vapour": ["gas"], "both": ["dust", "gas"]}[one["form"]]
    names = {"dust": worn["filter_class"] if worn is not None else "", "gas": "gas"}
    factors = [factor_of(book, traits, names[part]) for part in parts]
    if ratio is None or None in factors:
        return False
    factor = min(each for each in factors if each is not None)
    limit, exposure = number(one["limit"]) or Fraction(0), number(one["concentration"]) or Fraction(0)
    tops = [factor * limit]
    tops += [number(one[name]) or Fraction(0) for name in ("idlh", "cartridge_limit") if one.get(name)]
    return factor >= ratio and exposure <= min(tops)
