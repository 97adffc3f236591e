"""The triggers that mark what was worked out of somebody as stale when a fact about them changes."""

from __future__ import annotations

from collections.abc import Iterable

STALE = "s.rev = s.rev + 1, s.is_stale = 1"
OF_PERSON = (
    "UPDATE standing s JOIN person p ON s.person_id = COALESCE(p.merged_into, p.id) SET {stale} "
    "WHERE p.id = NEW.person_id"
)
OF_SITE = "UPDATE standing s SET {stale} WHERE s.site_id = NEW.{site}"
OF_KIT = (
    "UPDATE standing s JOIN person p ON s.person_id = COALESCE(p.merged_into, p.id) "
    "JOIN wear_permission w ON w.person_id = p.id "
    "JOIN try_kit k ON k.visit_id = w.visit_id AND k.no = w.no SET {stale} "
    "WHERE k.kit_id = {kit}"
)
OF_WORD = (
    "UPDATE standing s JOIN history_word h ON h.site_id = s.site_id SET {stale} "
    "WHERE JSON_VALUE(h.piece, '$.model_id') = CAST({kit} AS CHAR)"
)
IS_HERE = "NEW.left_on IS NULL AND NEW.merged_into IS NULL AND NEW.erased_at IS NULL"
ENTERED = (
    "INSERT INTO standing (person_id, site_id, is_here, rev, is_stale, has_passed, is_only) "
    f"VALUES (NEW.id, NEW.site_id, {IS_HERE}, 0, 1, 0, 0)"
)
MOVED = (
    f"UPDATE standing s SET s.site_id = NEW.site_id, s.is_here = {IS_HERE}, {STALE} WHERE s.person_id = NEW.id; "
    f"UPDATE standing s SET {STALE} WHERE s.person_id = NEW.merged_into; "
    f"UPDATE standing s SET {STALE} WHERE s.person_id = OLD.merged_into; "
)


def touching() -> dict[str, str]:
    """Return the statements that make the triggers, by the name of each."""
    of_person, by_kit = OF_PERSON.format(stale=STALE), OF_KIT.format(stale=STALE, kit="NEW.kit_id")
    settled = OF_KIT.format(stale=STALE, kit="(SELECT r.kit_id FROM kit_recall r WHERE r.id = NEW.recall_id)")
    told = [
        *((table, "INSERT", of_person) for table in ("clearance", "training", "change_report")),
        ("change_report", "UPDATE", of_person),
        *(("kit_recall", deed, by_kit) for deed in ("INSERT", "UPDATE")),
        ("recall_settled", "INSERT", settled),
        *(("site_task", deed, OF_SITE.format(stale=STALE, site="site_id")) for deed in ("INSERT", "UPDATE")),
        ("site_rule", "INSERT", OF_SITE.format(stale=STALE, site="site_id")),
        ("site", "UPDATE", OF_SITE.format(stale=STALE, site="id")),
        ("person", "INSERT", ENTERED),
        ("person", "UPDATE", f"BEGIN {MOVED} END"),
        ("person", "DELETE", "DELETE FROM standing WHERE person_id = OLD.id"),
    ]
    return _made(told)


def touching_before() -> dict[str, str]:
    """Return those about results of before, by the name of each: a result taken over, what a site says of them."""
    of_site = OF_SITE.format(stale=STALE, site="site_id")
    words = [("history_word", deed, of_site) for deed in ("INSERT", "UPDATE")]
    by_kit = OF_WORD.format(stale=STALE, kit="NEW.kit_id")
    settled = OF_WORD.format(stale=STALE, kit="(SELECT r.kit_id FROM kit_recall r WHERE r.id = NEW.recall_id)")
    recalls = [("kit_recall", deed, by_kit) for deed in ("INSERT", "UPDATE")]
    return {
        **_made([("history_result", "INSERT", OF_PERSON.format(stale=STALE)), *words]),
        **_made([*recalls, ("recall_settled", "INSERT", settled)], "before"),
    }


def _made(told: Iterable[tuple[str, str, str]], name: str = "stale") -> dict[str, str]:
    return {
        f"{table}_{name}_{deed.lower()}": (
            f"CREATE TRIGGER {table}_{name}_{deed.lower()} AFTER {deed} ON {table} FOR EACH ROW {does}"
        )
        for table, deed, does in told
    }
