"""What a client cannot know, filled in: facts of the site, the person's file, the kit and the catalogue, by value."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from datetime import datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from moorfog.core.events import payloads as ev
from moorfog.core.kernel.codec import decode
from moorfog.core.visit.state import Visit, alterations_needed
from moorfog.data import facepiece_kinds
from moorfog.platform.db.clock import Clock
from moorfog.platform.log.same import same_person
from moorfog.platform.log.summaries import PermissionEnd
from moorfog.platform.log.tables import VisitHead
from moorfog.platform.web.actor import Actor
from moorfog.platform.web.errors import DomainError, NotFound
from moorfog.rooms.bench.proposals import (
    AnswerTogether,
    ChooseFacepiece,
    ChooseMethod,
    ChooseTask,
    Correct,
    FitProbe,
    Proposal,
    StartQualitative,
    StartRun,
    StartScreening,
)
from moorfog.rooms.bench.senses import acknowledged_on, qualitative_facts, screening_facts
from moorfog.rooms.facepieces.tables import FacepieceVersion
from moorfog.rooms.kit.parts import take_parts
from moorfog.rooms.people.on_file import file_on
from moorfog.rooms.people.tables import Person
from moorfog.rooms.sites.tasks import find_task


def fill_in(
    db: Session,
    clock: Clock,
    actor: Actor,
    head: VisitHead,
    visit: Visit,
    proposal: Proposal,
    start_run: Callable[[Session, Clock, VisitHead, Visit, StartRun, datetime], ev.RunStarted],
) -> ev.Payload:
    """Return what a proposal enters into the log, with every fact by value that its client cannot know.

    Raises :class:`DomainError` or :class:`NotFound` where something that it names is not there, or not for this.
    """
    body = proposal.body
    if isinstance(body, ChooseTask):
        return ev.TaskChosen(find_task(db, head.site_id, body.task_id))
    if isinstance(body, FitProbe):
        return ev.ProbeFitted(
            alterations_needed(visit), take_parts(db, actor, head, visit, body.part_ids, proposal.occurred_at)
        )
    if isinstance(body, StartRun):
        return start_run(db, clock, head, visit, body, proposal.occurred_at)
    if isinstance(body, ChooseMethod):
        return ev.MethodChosen(body.method, acknowledged_on(db, actor, body.method))
    if isinstance(body, StartScreening):
        return screening_facts(db, head, visit, body, proposal.occurred_at)
    if isinstance(body, StartQualitative):
        return qualitative_facts(db, head, visit, body, proposal.occurred_at)
    if isinstance(body, Correct):
        return _correction(db, head, visit, body, clock.now(db))
    assert not isinstance(body, AnswerTogether | ChooseFacepiece), "these come to several entries"
    return body


def _correction(db: Session, head: VisitHead, visit: Visit, body: Correct, now: datetime) -> ev.Corrected:
    """Return a correction with the right person's own file and history by value."""
    file, person_id = None, body.person_id or visit.person_id
    if body.person_id is not None:
        person = db.get(Person, body.person_id)
        if person is None or person.employer_id != head.employer_id:
            raise NotFound("person")
        day = visit.opened.opened_on if visit.opened is not None else ""
        file = file_on(db, body.person_id, day)
    if body.size is not None:
        _check_size(db, visit, body)
    moved = [
        (one, replace(one.facepiece, size=body.size) if body.size and one.chosen_seq == body.target else one.facepiece)
        for one in visit.tries
        if body.person_id is not None or (body.size is not None and one.chosen_seq == body.target)
    ]
    failed = select(PermissionEnd.no).where(
        PermissionEnd.person_id.in_(same_person(db, person_id)),
        PermissionEnd.visit_id != head.id,
        PermissionEnd.configuration.in_([piece.configuration for _, piece in moved]),
    )
    has_failed = bool(moved) and db.scalar(failed.limit(1)) is not None
    return ev.Corrected(
        target=body.target,
        reason=body.reason,
        size=body.size,
        person_id=body.person_id,
        void_run=body.void_run,
        file=file,
        failed_before=has_failed,
    )


def _check_size(db: Session, visit: Visit, body: Correct) -> None:
    chosen = next((one.facepiece for one in visit.tries if one.chosen_seq == body.target), None)
    row = db.get(FacepieceVersion, chosen.version_id) if chosen else None
    sizes = [one["name"] for one in row.content["sizes"]] if row else []
    if body.size not in sizes:
        had = ", ".join(sizes) or "none: the entry named is no choice of a facepiece"
        raise DomainError("size", f"This facepiece has no size {body.size!r}; it has {had}.")


def facepiece_of(db: Session, choice: ChooseFacepiece) -> ev.Facepiece:
    """Return the facepiece that was chosen, as the catalogue has it. Raises :class:`NotFound` for none, and
    :class:`DomainError` for one that was withdrawn or does not come so."""
    row = db.get(FacepieceVersion, choice.version_id)
    if row is None:
        raise NotFound("facepiece")
    if row.withdrawn_at is not None:
        raise DomainError("withdrawn", f"{row.model}: its approval was withdrawn. Choose another facepiece.")
    content: dict[str, Any] = row.content
    known = facepiece_kinds().get(row.kind)
    if known is None:
        raise DomainError("kind", f"{row.model} is of no kind known here ({row.kind}). It cannot be tested.")
    for given, key, word in (
        (choice.size, "sizes", "size"),
        (choice.suspension, "suspensions", "suspension"),
        (choice.clip, "clips", "clip"),
        (choice.filter_class, "filter_classes", "filter class"),
    ):
        had = [one["name"] for one in content["sizes"]] if key == "sizes" else content[key]
        if given not in had and not (given == "" and not had):
            raise DomainError("not_offered", f"{row.model} has no {word} {given!r}; it has {', '.join(had) or 'none'}.")
    return ev.Facepiece(
        model_id=row.model_id,
        version_id=row.id,
        maker=row.maker,
        model=row.model,
        kind=row.kind,
        size=choice.size,
        valve=content["valve"],
        filter_kind=content["filter_kind"],
        filter_class=choice.filter_class,
        cover=content["cover"],
        suspension=choice.suspension,
        clip=choice.clip,
        probe=content["probe"],
        test_filters=content["test_filters"],
        is_own=choice.is_own,
        ppe=choice.ppe,
        traits=known,
        work=tuple(decode(ev.WorkFilter, one, row.model) for one in content.get("work_filters", ())),
        has_escape_cylinder=content.get("has_escape_cylinder", False),
    )
